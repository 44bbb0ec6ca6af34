package content

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"fmt"
	"io"
	"slices"
)

// UBI (Linux kernel, drivers/mtd/ubi/ubi-media.h), big-endian, spreads volumes over the erase
// blocks of a flash. Each block begins with a header that says where that of the volume and
// where the data stand:
//
//	0 "UBI#", 16 volume header, 20 data, 60 CRC over the 60 bytes before, not inverted
//	0 "UBI!", 5 type (2: static), 8 volume, 12 block of the volume (LEB), 20 bytes, 24 blocks (static), 28 unused bytes at the end of each
//	LEB (by the volume's alignment), 40 sequence number, 60 CRC
//
// Of two blocks for one LEB, that of the higher sequence number counts. Volume 0x7fffefff is the table: records of
// 172 bytes: 0 blocks, 12 type, 14 length of the name, 16 name, 168 CRC.

// Volume is a UBI volume. Reading it gives its LEBs one after another. Of a dynamic volume one that is nowhere
// reads as erased flash; of a static one it is missing.
type Volume struct {
	ID     uint32
	Name   string
	Static bool
	size   int64
	leb    int64 // bytes of a LEB that are used
	count  int64 // of its LEBs, up to the last that is there or announced
	at     io.ReaderAt
	blocks map[uint32]ubiBlock
}

type ubiBlock struct {
	data     int64 // offset
	sequence uint64
	bytes    int64 // of a static volume
}

const (
	ubiHead   = 64
	ubiTable  = 0x7fffefff
	ubiRecord = 172
	ubiMost   = 1 << 20 // erase blocks
)

// Size is how many bytes the volume holds: of a dynamic one up to the last LEB that is there.
func (v *Volume) Size() int64 { return v.size }

// ReadAt implements io.ReaderAt.
func (v *Volume) ReadAt(p []byte, off int64) (int, error) {
	n := 0
	for n < len(p) {
		if off >= v.size {
			return n, io.EOF
		}
		within := off % v.leb
		part := p[n:min(int64(len(p)), int64(n)+v.leb-within, int64(n)+v.size-off)]
		if b, ok := v.blocks[uint32(off/v.leb)]; !ok && v.Static {
			return n, damaged("its block %d, of %d, is missing", off/v.leb, v.count)
		} else if !ok {
			for i := range part {
				part[i] = 0xff
			}
		} else if got, err := v.at.ReadAt(part, b.data+within); got < len(part) {
			if err == nil || err == io.EOF {
				err = io.ErrUnexpectedEOF
			}
			return n + got, err
		}
		n += len(part)
		off += int64(len(part))
	}
	return n, nil
}

// Volumes reads the headers of a UBI image of a size whose erase blocks have peb bytes, and
// gives its volumes in the order of their numbers.
//
// In one piece: the fields follow each other as they lie on the disk.
func Volumes(at io.ReaderAt, size, peb int64) ([]*Volume, error) {
	if peb < 512 || size/peb > ubiMost {
		return nil, unsupported("its erase blocks of %d bytes are more than fitcheck reads", peb)
	}
	be := binary.BigEndian
	found := map[uint32]*Volume{}
	names := map[uint32]string{}
	var table ubiBlock
	for start := int64(0); start+2*ubiHead <= size; start += peb {
		var h [ubiHead]byte
		if err := readAt(at, size, start, h[:]); err != nil {
			return nil, err
		}
		vid, data := int64(be.Uint32(h[16:])), int64(be.Uint32(h[20:]))
		if string(h[:4]) != "UBI#" || be.Uint32(h[60:]) != ubifsSum(h[:60]) || vid < ubiHead || data < vid+ubiHead || data >= peb || start+vid+ubiHead > size {
			continue
		}
		if err := readAt(at, size, start+vid, h[:]); err != nil {
			return nil, err
		}
		if string(h[:4]) != "UBI!" || be.Uint32(h[60:]) != ubifsSum(h[:60]) {
			continue
		}
		id, number := be.Uint32(h[8:]), be.Uint32(h[12:])
		b := ubiBlock{start + data, be.Uint64(h[40:]), int64(be.Uint32(h[20:]))}
		if id == ubiTable {
			if table.data == 0 || b.sequence >= table.sequence {
				table = b
			}
			continue
		}
		used := peb - data - int64(be.Uint32(h[28:]))
		v := found[id]
		if v == nil {
			v = &Volume{ID: id, Static: h[5] == 2, leb: used, at: at, blocks: map[uint32]ubiBlock{}}
			found[id] = v
		}
		if b.bytes = min(b.bytes, v.leb); used != v.leb || used <= 0 {
			return nil, damaged("the data of its erase block at byte %d begins or ends elsewhere than in others", start)
		}
		if old, ok := v.blocks[number]; !ok || b.sequence >= old.sequence {
			v.blocks[number] = b
		}
		if v.count = max(v.count, int64(number)+1); v.Static {
			v.count = max(v.count, int64(be.Uint32(h[24:])))
		}
	}
	reserved := map[uint32]int64{} // LEBs, by the table
	if table.data > 0 {
		for i := range uint32(128) {
			r := make([]byte, ubiRecord)
			if readAt(at, size, table.data+int64(i)*ubiRecord, r) != nil {
				break
			}
			if n := int(be.Uint16(r[14:])); be.Uint32(r) > 0 && n <= 128 && be.Uint32(r[168:]) == ubifsSum(r[:168]) {
				names[i] = string(bytes.TrimRight(r[16:16+n], "\x00"))
				reserved[i] = min(int64(be.Uint32(r)), ubiMost)
			}
		}
	}
	var out []*Volume
	for id, v := range found {
		if v.Name = names[id]; v.Name == "" {
			v.Name = fmt.Sprintf("volume %d", id)
		}
		if most := max((size+peb-1)/peb, reserved[id]); v.count > most {
			return nil, damaged("its %s has %d blocks, and there is room for %d", v.Name, v.count, most)
		}
		v.size = v.count * v.leb
		if last, ok := v.blocks[uint32(v.count-1)]; ok && v.Static {
			v.size -= v.leb - last.bytes
		}
		out = append(out, v)
	}
	slices.SortFunc(out, func(a, b *Volume) int { return cmp.Compare(a.ID, b.ID) })
	return out, nil
}
