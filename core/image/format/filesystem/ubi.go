package filesystem

import (
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"sort"

	"fitcheck/core/archive"
	"fitcheck/core/content"
	"fitcheck/core/digest"
	"fitcheck/core/guid"
	"fitcheck/core/image"

	"fitcheck/core/fact"
)

// UBI (Linux kernel, drivers/mtd/ubi/ubi-media.h), big-endian. Every erase
// block begins with an erase counter header:
//
//	0  "UBI#", 4 version, 8 erase counter, 16 place of the volume header,
//	20 place of the data, 24 number of the image, 60 CRC over the first 60 bytes
//
// and, where it belongs to a volume, has a volume header:
//
//	0  "UBI!", 4 version, 5 type (1 dynamic, 2 static), 8 volume, 12 number of
//	   the block in it, 20 bytes of data (static), 24 blocks used, 32 CRC of
//	   the data (static), 40 sequence number, 60 CRC over the first 60 bytes
//
// Volume 0x7fffefff is the table of volumes: records of 172 bytes, each with
// its own CRC at 168. The CRCs are not inverted.
const (
	ubiTable      = 0x7fffefff
	ubiRecord     = 172
	ubiMaxVolumes = 128
)

func init() {
	register(&image.Format{Name: "ubi",
		Doc:      image.Doc{Told: `"UBI#"`, Sums: "CRCs of erase counter and volume headers, volume table, static volumes; the blocks that volumes announce", Facts: "type; volumes as parts", From: "Linux, drivers/mtd/ubi/ubi-media.h"},
		Suffixes: []string{".ubi"}, Title: "UBI image", HoldsFiles: true, Firmware: true, Deep: true, Magics: []image.Magic{{At: 0, Bytes: "UBI#"}}, Read: readUBI, Members: ubiMembers})
	register(&image.Format{Name: "ubifs",
		Doc:      image.Doc{Told: "0x06101831", Sums: "CRCs of all nodes", Facts: "type", From: "Linux, fs/ubifs/ubifs-media.h"},
		Suffixes: []string{".ubifs"}, Title: "UBIFS file system", HoldsFiles: true, Firmware: true, Deep: true, Measure: measureFiles("ubifs", ubifsSize), Magics: []image.Magic{{At: 0, Bytes: "\x31\x18\x10\x06"}}, Sniff: func(h []byte) bool {
			return len(h) >= 24 && h[20] < 16
		}, Read: readUBIFS})
}

// rawCRC is a CRC-32 without its final inversion.
func rawCRC(b []byte) uint32 { return ^crc32.ChecksumIEEE(b) }

// tallied adds checksums of one kind. size is that of the stretch that they lie in.
func tallied(m *image.Image, t image.Tally, what string, size, at int64) {
	m.Tallied(what, "at 0x%x", t, digest.Between(0, size), at)
	if n := len(m.Sums); n > 0 { // which bytes they cover is too much to tell one by one
		m.Sums[n-1].Covers = []digest.Stretch{}
	}
}

type ubiVolume struct {
	id     uint64
	name   string
	first  int64 // offset of its first block's data
	blocks int
	static bool
	last   int64 // number of its last block
	// announced is how many blocks it has by its own account; 0 when it does not say.
	announced int64
}

// readUBI reads the headers of all erase blocks.
//
// In one piece: the header of the first block, the size of a block, then each.
func readUBI(s *image.Source) (*image.Image, error) {
	m := &image.Image{}
	h, err := m.Header(s, "an erase counter header", 0, 64, binary.BigEndian)
	if err != nil {
		return nil, err
	}
	h.Text("magic", 0, 4, "UBI image")
	h.Dec("version", 4, 1, "")
	h.Dec("erase_counter", 8, 8, "")
	vid := int64(h.Dec("volume_header", 16, 4, "where it is in a block"))
	data := int64(h.Dec("data", 20, 4, "where it begins in a block"))
	h.Hex("image", 24, 4, "number of the image")
	h.Hex("header_crc", 60, 4, "over the first 60 bytes")
	if vid < 64 || vid > 1<<20 || data < vid+64 || data > 1<<20 {
		m.Checked("header crc32", fmt.Sprintf("%08x", h.Get(60, 4)), fmt.Sprintf("%08x", rawCRC(h.Bytes[:60])), digest.Between(0, 60), 60)
		return m, fmt.Errorf("its headers are at %d and its data at %d, which makes no sense", vid, data)
	}
	if s.Size() < 0 && !s.Whole() {
		return m, nil
	}
	peb, err := ubiBlockSize(s, data)
	if err != nil {
		return m, err
	}
	m.EraseBlock = peb
	m.Field("block_size", 0, nil, fmt.Sprint(peb), "bytes of an erase block, by the distance of the headers")
	u := &ubiBlocks{s: s, vid: vid, data: data, peb: peb, volumes: map[uint64]*ubiVolume{}, names: map[uint64]string{}}
	strange := 0 // erase blocks in a row that are neither UBI's nor erased
	for at := int64(0); at < s.Size() && strange < 2; at += peb {
		b, err := s.UpTo(at, 64)
		if err != nil {
			return m, err
		}
		if len(b) < 64 || image.AllOf(b, 0xff) {
			continue
		}
		if string(b[:4]) == "UBI#" {
			strange, m.Extent = 0, min(at+peb, s.Size())
		} else if strange++; strange == 2 {
			break // what follows is something else
		} else if next, err := s.UpTo(at+peb, 4); err != nil || string(next) != "UBI#" {
			continue
		}
		u.ec.Add(string(b[:4]) == "UBI#" && binary.BigEndian.Uint32(b[60:]) == rawCRC(b[:60]), at)
		if err := u.volume(at); err != nil {
			return m, err
		}
	}
	tallied(m, u.ec, "CRCs of its erase counter headers", s.Size(), 60)
	tallied(m, u.vids, "CRCs of its volume headers", s.Size(), vid+60)
	if u.content.All() > 0 {
		tallied(m, u.content, "CRCs of its volume table and static volumes", s.Size(), data)
	}
	ubiParts(m, u.volumes, u.names, peb-data)
	return m, ubiWhole(m, s, u.volumes, peb)
}

// ubiBlocks is what the headers of the erase blocks tell together.
type ubiBlocks struct {
	s                 *image.Source
	vid, data, peb    int64
	ec, vids, content image.Tally
	volumes           map[uint64]*ubiVolume
	names             map[uint64]string
}

// volume reads the volume header of the erase block at a place, and what it has a checksum of.
func (u *ubiBlocks) volume(at int64) error {
	v, err := u.s.UpTo(at+u.vid, 64)
	if err != nil {
		return err
	}
	if len(v) < 64 || image.AllOf(v, 0xff) {
		return nil
	}
	ok := string(v[:4]) == "UBI!" && binary.BigEndian.Uint32(v[60:]) == rawCRC(v[:60])
	if u.vids.Add(ok, at+u.vid); !ok {
		return nil
	}
	id, lnum := uint64(binary.BigEndian.Uint32(v[8:])), binary.BigEndian.Uint32(v[12:])
	if id == ubiTable {
		if err := ubiNames(u.s, at+u.data, u.peb-u.data, u.names, &u.content); err != nil {
			return err
		}
		return nil
	}
	vol := u.volumes[id]
	if vol == nil {
		if len(u.volumes) >= ubiMaxVolumes {
			return nil
		}
		vol = &ubiVolume{id: id, first: -1, static: v[5] == 2}
		u.volumes[id] = vol
	}
	vol.blocks++
	vol.last = max(vol.last, int64(lnum))
	if vol.static {
		vol.announced = int64(binary.BigEndian.Uint32(v[24:]))
	}
	if lnum == 0 && at+u.data < u.s.Size() {
		vol.first = at + u.data
	}
	if n := int64(binary.BigEndian.Uint32(v[20:])); vol.static && n > 0 && n <= u.peb-u.data {
		d, err := u.s.Bytes(at+u.data, int(n))
		if err == image.ErrBeyond {
			return err
		}
		u.content.Add(err == nil && rawCRC(d) == binary.BigEndian.Uint32(v[32:]), at+u.data)
	}
	return nil
}

// ubiWhole holds what the volumes announce against the blocks that are there.
func ubiWhole(m *image.Image, s *image.Source, volumes map[uint64]*ubiVolume, peb int64) error {
	if rest := s.Size() % peb; rest != 0 {
		if b, err := s.UpTo(s.Size()-rest, 4); err != nil {
			return err
		} else if len(b) > 0 && string(b) == "UBI#"[:len(b)] {
			m.Problem("truncated: its last erase block has %d bytes, and the others %d", rest, peb)
		}
	}
	for _, v := range volumes {
		if !v.static && v.first >= 0 {
			b, err := s.UpTo(v.first, 48)
			if err != nil {
				return err
			}
			// The superblock of a UBIFS says how many blocks it takes.
			if len(b) == 48 && binary.LittleEndian.Uint32(b) == 0x06101831 && b[20] == 6 {
				v.announced = int64(binary.LittleEndian.Uint32(b[40:]))
			}
		}
		switch {
		case v.announced > 0 && v.last+1 < v.announced:
			m.Problem("truncated: the volume %s announces %d blocks, and there are %d", v.name, v.announced, v.last+1)
		case v.static && v.announced > int64(v.blocks), int64(v.blocks) <= v.last && v.static:
			m.Problem("the volume %s announces %d blocks, and %d of them are there", v.name, v.announced, v.blocks)
		}
	}
	return nil
}

// ubiBlockSize finds the distance of the erase counter headers.
func ubiBlockSize(s *image.Source, data int64) (int64, error) {
	for size := int64(2 << 10); size <= 8<<20; size <<= 1 {
		if size <= data {
			continue
		}
		b, err := s.UpTo(size, 4)
		if err != nil {
			return 0, err
		}
		if string(b) == "UBI#" {
			return size, nil
		}
		if len(b) == 0 {
			return size, nil // one block only
		}
	}
	return 0, fmt.Errorf("it has one erase counter header and no second; the size of its blocks is not known")
}

// ubiNames reads the table of volumes.
func ubiNames(s *image.Source, at, room int64, names map[uint64]string, t *image.Tally) error {
	n := min(ubiMaxVolumes, room/ubiRecord)
	b, err := s.UpTo(at, int(n*ubiRecord))
	if err != nil {
		return err
	}
	for i := 0; (i+1)*ubiRecord <= len(b); i++ {
		r := b[i*ubiRecord : (i+1)*ubiRecord]
		t.Add(binary.BigEndian.Uint32(r[168:]) == rawCRC(r[:168]), at+int64(i*ubiRecord))
		if size := int(binary.BigEndian.Uint16(r[14:])); binary.BigEndian.Uint32(r) > 0 && size <= 128 {
			names[uint64(i)] = image.CString(r[16 : 16+size])
		}
	}
	return nil
}

// ubiParts notes the volumes. Their blocks lie apart, each behind its
// headers, so that only the first block of each is looked into.
func ubiParts(m *image.Image, volumes map[uint64]*ubiVolume, names map[uint64]string, leb int64) {
	var all []*ubiVolume
	for id, v := range volumes {
		v.name = names[id]
		if v.name == "" {
			v.name = fmt.Sprintf("volume %d", id)
		}
		all = append(all, v)
	}
	sort.Slice(all, func(i, j int) bool { return all[i].id < all[j].id })
	for _, v := range all {
		kind := "dynamic"
		if v.static {
			kind = "static"
		}
		m.Field(fmt.Sprintf("volume[%d]", v.id), max(0, v.first), nil, v.name, fmt.Sprintf("%s, %d blocks", kind, v.blocks))
		if v.first >= 0 {
			p := m.Part(v.name, v.first, leb)
			p.Scattered, p.Pieces = v.blocks > 1, true
		}
	}
	m.Fact(fact.Type, "filesystem", 0, 4)
}

// UBIFS (Linux kernel, fs/ubifs/ubifs-media.h), little-endian: nodes.
//
//	0  magic 0x06101831, 4 CRC over all from 8 on, 8 sequence number, 16 length, 20 type
//
// The first node is the superblock (type 6): 28 flags, 32 least write, 36
// bytes and 40 number of logical erase blocks, 80 format, 84 compression,
// 108 UUID.
func readUBIFS(s *image.Source) (*image.Image, error) {
	m := &image.Image{}
	h, err := m.Header(s, "a UBIFS node", 0, 24, binary.LittleEndian)
	if err != nil {
		return nil, err
	}
	h.Hex("magic", 0, 4, "UBIFS node")
	want := h.Hex("crc32", 4, 4, "over all from 8 on")
	h.Dec("sequence", 8, 8, "")
	n := int64(h.Dec("length", 16, 4, "bytes of the node"))
	h.Named("node_type", 20, 1, map[uint64]string{0: "inode", 1: "data", 2: "directory entry", 3: "extended attribute", 4: "truncation", 5: "padding", 6: "superblock", 7: "master", 8: "reference", 9: "index", 10: "commit start", 11: "orphans"})
	m.Fact(fact.Type, "filesystem", 0, 4)
	if n < 24 || n > 1<<20 {
		return m, fmt.Errorf("its first node announces %d bytes", n)
	}
	b, err := s.Bytes(0, int(n))
	if err != nil {
		return m, err
	}
	m.Checked("crc32 of its first node", fmt.Sprintf("%08x", want), fmt.Sprintf("%08x", rawCRC(b[8:])), digest.Between(8, n), 4)
	if b[20] != 6 || n < 128 {
		m.Note("it does not begin with a superblock")
		return m, nil
	}
	sb := m.Block(b, 0, binary.LittleEndian)
	sb.Hex("flags", 28, 4, "")
	sb.Dec("least_write", 32, 4, "bytes")
	size, count := int64(sb.Dec("block_size", 36, 4, "bytes of a logical erase block")), int64(sb.Dec("blocks", 40, 4, ""))
	sb.Dec("format", 80, 4, "")
	m.Compression = sb.Named("compression", 84, 2, map[uint64]string{0: "none", 1: "lzo", 2: "gzip", 3: "zstd"})
	sb.Add("uuid", 108, 16, guid.UUID(b[108:124]), "")
	if size < 1<<12 || size > 8<<20 || count > 1<<31 {
		return m, fmt.Errorf("its superblock announces %d blocks of %d bytes", count, size)
	}
	m.Extent = size * count
	if s.Size() < 0 && !s.Whole() {
		return m, nil
	}
	return m, ubifsNodes(m, s, size)
}

// filled says whether the bytes up to the next multiple of 8 are what writers put there:
// zeros, erased flash, or UBIFS_PADDING_BYTE (fs/ubifs/ubifs-media.h).
func filled(b []byte) bool {
	for _, c := range b {
		if c != 0 && c != 0xff && c != 0xce {
			return false
		}
	}
	return true
}

// ubifsNodes recomputes the CRCs of all nodes, block by block: nodes follow each other,
// each at a multiple of 8, up to what is erased. The blocks of the tree of properties have
// none.
func ubifsNodes(m *image.Image, s *image.Source, size int64) error {
	var t image.Tally
	var covers []digest.Stretch
	end := min(m.Extent, s.Size())
	for at := int64(0); at < end; at += size {
		b, err := s.UpTo(at, int(min(size, end-at)))
		if err != nil {
			return err
		}
		for off := 0; off+24 <= len(b) && binary.LittleEndian.Uint32(b[off:]) == 0x06101831; {
			n := int(binary.LittleEndian.Uint32(b[off+16:]))
			if n < 24 || off+n > len(b) {
				t.Add(false, at+int64(off))
				break
			}
			t.Add(binary.LittleEndian.Uint32(b[off+4:]) == rawCRC(b[off+8:off+n]), at+int64(off))
			from, to := at+int64(off), at+int64(off+n)
			if k := len(covers); k > 0 && covers[k-1].To >= from-7 && (covers[k-1].To <= at || filled(b[covers[k-1].To-at:off])) {
				covers[k-1].To = to
			} else if k < image.MaxSums {
				covers = append(covers, digest.Stretch{From: from, To: to})
			}
			if b[off+20] == 5 && n >= 28 { // padding: what follows is filled up
				n += int(min(binary.LittleEndian.Uint32(b[off+24:]), uint32(len(b))))
			}
			off += (n + 7) &^ 7
		}
	}
	tallied(m, t, "CRCs of its nodes", end, 4)
	if k := len(m.Sums); k > 0 {
		m.Sums[k-1].Covers = covers
	}
	return nil
}

// ubiMembers opens the volumes, each with its blocks in their order.
func ubiMembers(m *image.Image, c *archive.Content) ([]archive.Member, error) {
	volumes, err := content.Volumes(c, c.Size(), m.EraseBlock)
	if err != nil {
		if archive.Fatal(err) {
			return nil, err
		}
		m.Note("its volumes cannot be opened: %s", archive.Describe(err))
		return nil, nil
	}
	var out []archive.Member
	for _, v := range volumes {
		if v.Size() > 0 {
			out = append(out, archive.Member{Name: v.Name, At: v, Size: v.Size()})
		}
	}
	return out, nil
}

func ubifsSize(h []byte) int64 {
	if len(h) < 128 || binary.LittleEndian.Uint32(h) != 0x06101831 || h[20] != 6 {
		return 0
	}
	return int64(binary.LittleEndian.Uint32(h[36:])) * int64(binary.LittleEndian.Uint32(h[40:]))
}
