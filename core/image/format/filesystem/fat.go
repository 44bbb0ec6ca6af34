package filesystem

import (
	"encoding/binary"
	"fmt"
	"strings"

	"fitcheck/core/content"
	"fitcheck/core/fact"
	"fitcheck/core/image"
)

// FAT (Microsoft FAT specification of 2005; ECMA-107): a boot sector,
// little-endian.
//
//	11  bytes of a sector, 13 sectors of a cluster, 14 reserved sectors, 16 FATs, 17 root entries, 19 sectors, 21 medium,
//	22  sectors of a FAT, 32 sectors (32 bits), 36 sectors of a FAT (FAT32)
//	39 or 67  number of the volume, 43 or 71 its name; 510 0x55 0xaa

func init() {
	register(&image.Format{Name: "fat",
		Doc:   image.Doc{Told: "a sane boot sector", Sums: "structure", Facts: "type (fat12, fat16, fat32), title", From: "Microsoft FAT specification; ECMA-107"},
		Title: "FAT file system", HoldsFiles: true, Firmware: true, Deep: true, Measure: measureFiles("fat", fatSize), Rank: -1, Magics: []image.Magic{{At: 510, Bytes: "\x55\xaa"}}, Sniff: sniffFAT, Read: readFAT})
}

func sniffFAT(h []byte) bool {
	if len(h) < 512 || h[0] != 0xeb && h[0] != 0xe9 {
		return false
	}
	le := binary.LittleEndian
	sector, cluster := le.Uint16(h[11:]), h[13]
	return sector >= 512 && sector <= 4096 && sector&(sector-1) == 0 && cluster > 0 && cluster&(cluster-1) == 0 && le.Uint16(h[14:]) > 0 &&
		(h[16] == 1 || h[16] == 2) && h[21] >= 0xf0 && (le.Uint16(h[19:]) > 0 || le.Uint32(h[32:]) > 0) && (le.Uint16(h[22:]) > 0 || le.Uint32(h[36:]) > 0)
}

func readFAT(s *image.Source) (*image.Image, error) {
	m := &image.Image{}
	h, err := m.Header(s, "a FAT boot sector", 0, 512, binary.LittleEndian)
	if err != nil {
		return nil, err
	}
	h.Text("oem", 3, 8, "what made it")
	sector := int64(h.Dec("sector_size", 11, 2, "bytes"))
	cluster := int64(h.Dec("cluster_size", 13, 1, "sectors"))
	reserved := int64(h.Dec("reserved", 14, 2, "sectors"))
	fats := int64(h.Dec("fats", 16, 1, ""))
	root := int64(h.Dec("root_entries", 17, 2, ""))
	total := int64(h.Get(19, 2))
	if total == 0 {
		total = int64(h.Dec("sectors", 32, 4, "in all"))
	} else {
		h.Dec("sectors", 19, 2, "in all")
	}
	size, ext := int64(h.Get(22, 2)), 36
	wide := size == 0
	if wide {
		size, ext = int64(h.Get(36, 4)), 64
	}
	clusters := (total - reserved - fats*size - (root*32+sector-1)/sector) / cluster
	if clusters <= 0 {
		return m, fmt.Errorf("its tables take more than the %d sectors that it has", total)
	}
	m.Fact(fact.Type, fmt.Sprintf("fat%d", content.FATBits(clusters, wide)), 11, 25)
	h.Hex("volume_id", ext+3, 4, "")
	name := h.Text("name", ext+7, 11, "the volume's name")
	if !strings.EqualFold(name, "NO NAME") {
		h.Fact(fact.Title, name)
	}
	h.Hex("signature", 510, 2, "boot sector")
	m.Extent = total * sector
	return m, nil
}

func fatSize(h []byte) int64 {
	if !content.IsFAT(h) {
		return 0
	}
	le := binary.LittleEndian
	sector := int64(le.Uint16(h[11:]))
	total := int64(le.Uint16(h[19:]))
	if total == 0 {
		total = int64(le.Uint32(h[32:]))
	}
	// The first entry of the table repeats the medium.
	if at := int64(le.Uint16(h[14:])) * sector; at+1 < int64(len(h)) && h[at] != h[21] {
		return 0
	}
	return total * sector
}
