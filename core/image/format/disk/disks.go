package disk

import (
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"hash/crc32"
	"strings"
	"unicode/utf16"

	"fitcheck/core/digest"
	"fitcheck/core/fact"
	"fitcheck/core/guid"
	"fitcheck/core/image"
)

// A disk with a master boot record (UEFI Specification 2.10, section 5.2):
// four partitions of 16 bytes from 446 on, 0x55 0xaa at 510.
//
//	0  0x80: active, 4 type, 8 first block, 12 blocks
//
// GPT (section 5.3) has its header in block 1, with "EFI PART": 8 revision, 12
// size, 16 CRC-32 over it, this field as zero, 24 its own block, 32 block of
// the other header, 40 first and 48 last usable block, 56 GUID of the disk, 72
// block, 80 number and 84 size of the entries, 88 their CRC-32. An entry has
// its type (GUID) at 0, its own GUID at 16, its first and last block at 32 and
// 40, its name at 56.
func init() {
	register(&image.Format{Name: "mbr",
		Doc:   image.Doc{Told: "0x55 0xaa and four sane partitions", Sums: "structure", Facts: "parts", From: "UEFI 2.10, section 5.2"},
		Title: "disk with a master boot record", Firmware: true, Rank: -2, Magics: []image.Magic{{At: 510, Bytes: "\x55\xaa"}}, Sniff: sniffMBR, Read: readMBR, Members: image.PartMembers})
	register(&image.Format{Name: "gpt",
		Doc:   image.Doc{Told: `"EFI PART" in block 1 (512 or 4096 bytes)`, Sums: "both headers, both tables of entries", Facts: "parts", From: "UEFI 2.10, section 5.3"},
		Title: "disk with a GUID partition table", Firmware: true, Deep: true, Rank: 3, Magics: []image.Magic{{At: 512, Bytes: "EFI PART"}, {At: 4096, Bytes: "EFI PART"}}, Read: readGPT, Members: image.PartMembers})
}

var mbrTypes = map[uint64]string{
	1: "FAT12", 4: "FAT16", 5: "extended", 6: "FAT16", 7: "NTFS or exFAT", 0xb: "FAT32", 0xc: "FAT32", 0xe: "FAT16", 0xf: "extended", 0x82: "Linux swap", 0x83: "Linux",
	0x8e: "Linux LVM", 0xda: "no file system", 0xee: "GPT", 0xef: "EFI system", 0xfd: "Linux RAID",
}

func sniffMBR(h []byte) bool {
	if len(h) < 512 {
		return false
	}
	used := 0
	for i := range 4 {
		e := h[446+16*i:]
		n := binary.LittleEndian.Uint32(e[12:])
		switch {
		case e[0] != 0 && e[0] != 0x80:
			return false
		case e[4] == 0 && n == 0:
		case e[4] == 0 || n == 0 || binary.LittleEndian.Uint32(e[8:]) == 0:
			return false
		default:
			used++
		}
	}
	return used > 0
}

func readMBR(s *image.Source) (*image.Image, error) {
	m := &image.Image{}
	h, err := m.Header(s, "a master boot record", 0, 512, binary.LittleEndian)
	if err != nil {
		return nil, err
	}
	h.Hex("disk_id", 440, 4, "")
	logical := int64(0)
	for i := range 4 {
		at := 446 + 16*i
		kind, first, n := h.Get(at+4, 1), int64(h.Get(at+8, 4)), int64(h.Get(at+12, 4))
		if kind == 0 {
			continue
		}
		name := fmt.Sprintf("partition[%d]", i)
		h.Named(name+".type", at+4, 1, mbrTypes)
		h.Dec(name+".first", at+8, 4, "block")
		h.Dec(name+".blocks", at+12, 4, "of 512 bytes")
		if h.Bytes[at] == 0x80 {
			h.Add(name+".active", at, 1, "0x80", "starts from here")
		}
		m.Extent = max(m.Extent, (first+n)*512)
		switch {
		case !extended(kind):
			m.Part(fmt.Sprintf("partition %d", i+1), first*mbrBlock, n*mbrBlock)
		case logical == 0:
			logical = first
		}
	}
	if logical > 0 {
		if err := logicalPartitions(m, s, logical); err != nil {
			return m, err
		}
	}
	h.Hex("signature", 510, 2, "boot record")
	m.Fact(fact.Type, "disk", 510, 2)
	return m, nil
}

const mbrBlock = 512

// extended tells the types of a partition that holds others.
func extended(kind uint64) bool { return kind == 5 || kind == 0xf || kind == 0x85 }

// logicalPartitions reads the partitions within an extended one: each stands behind a record
// like the first of the disk, which gives the partition, counted from the record, and the
// next record, counted from the beginning of the extended partition.
func logicalPartitions(m *image.Image, s *image.Source, start int64) error {
	seen := map[int64]bool{}
	for at, number := start, 5; !seen[at]; number++ {
		seen[at] = true
		if len(seen) > maxLogical {
			m.Problem("its extended partition holds more than %d others", maxLogical)
			return nil
		}
		if s.Size() >= 0 && (at+1)*mbrBlock > s.Size() {
			return nil // that it is cut off, the extent tells
		}
		b, err := s.UpTo(at*mbrBlock, mbrBlock)
		if err != nil {
			return err
		}
		if len(b) < mbrBlock || b[510] != 0x55 || b[511] != 0xaa {
			m.Problem("its extended partition has no record at 0x%x, where one belongs", at*mbrBlock)
			return nil
		}
		h := m.Block(b, at*mbrBlock, binary.LittleEndian)
		next := int64(0)
		for i := range 2 {
			e := 446 + 16*i
			kind, first, n := h.Get(e+4, 1), int64(h.Get(e+8, 4)), int64(h.Get(e+12, 4))
			switch {
			case kind == 0 || n == 0:
			case extended(kind):
				next = start + first
			default:
				name := fmt.Sprintf("partition[%d]", number-1)
				h.Named(name+".type", e+4, 1, mbrTypes)
				h.Dec(name+".first", e+8, 4, "block, counted from this record")
				h.Dec(name+".blocks", e+12, 4, "of 512 bytes")
				m.Extent = max(m.Extent, (at+first+n)*mbrBlock)
				m.Part(fmt.Sprintf("partition %d", number), (at+first)*mbrBlock, n*mbrBlock)
			}
		}
		if next == 0 {
			return nil
		}
		at = next
	}
	m.Problem("the records of its extended partition go in a circle")
	return nil
}

// maxLogical is how many partitions an extended one may hold.
const maxLogical = 256

func readGPT(s *image.Source) (*image.Image, error) {
	m := &image.Image{}
	block := int64(512)
	if b, err := s.UpTo(512, 8); err != nil {
		return nil, err
	} else if string(b) != "EFI PART" {
		block = 4096
	}
	h, entries, err := gptHeader(m, s, "", block, block)
	if err != nil {
		return m, err
	}
	h.Add("disk", 56, 16, guid.Text(h.Bytes[56:]), "")
	m.Fact(fact.Type, "disk", block, 8)
	last := int64(h.Get(48, 8))
	other := int64(h.Get(32, 8))
	if last < 0 || last > 1<<50 || other < 0 || other > 1<<50 {
		return m, fmt.Errorf("its last block is %d, which makes no sense", last)
	}
	m.Extent = (max(last, other) + 1) * block
	if err := gptEntries(m, s, entries, block); err != nil {
		return m, err
	}
	if other <= 1 || s.Size() >= 0 && (other+1)*block > s.Size() {
		return m, nil // that it is cut off, the extent tells
	}
	if b, err := s.UpTo(other*block, 8); err != nil {
		return m, err
	} else if string(b) != "EFI PART" {
		m.Problem("its backup header is not where the first one says (0x%x)", other*block)
		return m, nil
	}
	_, _, err = gptHeader(m, s, "backup ", other*block, block)
	return m, err
}

type gptTable struct {
	at   int64
	n    int
	size int
}

// gptHeader reads one of the two headers and its checksums.
func gptHeader(m *image.Image, s *image.Source, which string, at, block int64) (*image.Header, gptTable, error) {
	name := func(t string) string { return strings.ReplaceAll(which, " ", "_") + t }
	h, err := m.Header(s, "a "+which+"GPT header", at, 92, binary.LittleEndian)
	if err != nil {
		return nil, gptTable{}, err
	}
	h.Text(name("magic"), 0, 8, which+"GPT header")
	h.Hex(name("revision"), 8, 4, "")
	size := int64(h.Dec(name("header_size"), 12, 4, "bytes"))
	h.Hex(name("header_crc"), 16, 4, "over the header, this field as zero")
	h.Dec(name("block"), 24, 8, "of this header")
	h.Dec(name("other_block"), 32, 8, "of the other header")
	h.Dec(name("first_usable"), 40, 8, "block")
	h.Dec(name("last_usable"), 48, 8, "block")
	t := gptTable{at: int64(h.Dec(name("entries_block"), 72, 8, "")), n: int(h.Dec(name("entries"), 80, 4, "")), size: int(h.Dec(name("entry_size"), 84, 4, "bytes"))}
	h.Hex(name("entries_crc"), 88, 4, "over the entries")
	if size < 92 || size > block || t.at <= 0 || t.at > 1<<50 || t.size < 128 || t.size > 4096 || t.n < 1 || t.n > 4096 {
		return h, t, fmt.Errorf("its %sheader makes no sense: %d bytes, %d entries of %d bytes", which, size, t.n, t.size)
	}
	t.at *= block
	le := func(b []byte) string { return hex.EncodeToString([]byte{b[3], b[2], b[1], b[0]}) }
	m.Sum(which+"header crc32", digest.CRC32, digest.Options{}, digest.Between(at, at+size), digest.Between(at+16, at+20), le(h.Bytes[16:]), at+16)
	b, err := s.Bytes(t.at, t.n*t.size)
	if err != nil {
		return h, t, err
	}
	m.Checked(which+"entries crc32", le(h.Bytes[88:]), fmt.Sprintf("%08x", crc32.ChecksumIEEE(b)), digest.Between(t.at, t.at+int64(len(b))), at+88)
	return h, t, nil
}

func gptEntries(m *image.Image, s *image.Source, t gptTable, block int64) error {
	b, err := s.Bytes(t.at, t.n*t.size)
	if err != nil {
		return err
	}
	for i := range t.n {
		e := b[i*t.size : (i+1)*t.size]
		if image.AllOf(e[:16], 0) {
			continue
		}
		first, last := int64(binary.LittleEndian.Uint64(e[32:])), int64(binary.LittleEndian.Uint64(e[40:]))
		var u []uint16
		for j := 56; j < 128; j += 2 {
			if c := binary.LittleEndian.Uint16(e[j:]); c != 0 {
				u = append(u, c)
			} else {
				break
			}
		}
		name := string(utf16.Decode(u))
		h := m.Block(e[:128], t.at+int64(i*t.size), binary.LittleEndian)
		h.Add(fmt.Sprintf("entry[%d]", i), 0, 16, guid.Text(e), fmt.Sprintf("%q, blocks %d to %d", name, first, last))
		if first < 0 || last < first || last > 1<<50 {
			m.Problem("its entry %d runs from block %d to block %d", i, first, last)
			continue
		}
		if name == "" {
			name = fmt.Sprintf("partition %d", i+1)
		}
		m.Part(name, first*block, (last-first+1)*block)
	}
	return nil
}
