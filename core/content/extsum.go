package content

import (
	"encoding/binary"
	"hash/crc32"
)

// The checksums over the metadata of ext4 (Linux kernel, Documentation/filesystems/ext4,
// "Checksums"): CRC-32C, begun with a seed and not inverted. The seed is that over the
// UUID, or given by the superblock; an inode's is that over its number and generation, too.
//
//	group    16 bits at 30, over the number of the group and the descriptor, this field as zero
//	inode    the lower 16 bits at 124, the upper ones at 130 where the inode reaches so far
//	folder   at the end of each block: 0, 12 (16 bits), 0, 0xde, then the sum over what comes before
//	extents  behind the last one for which a block has room
type extSums struct {
	on   bool
	seed uint32
}

const (
	extMetadataSums = 0x400  // a feature that a reader need not know
	extOwnSeed      = 0x2000 // one that it has to know
	extDirTail      = 12
)

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// extSum goes on with a sum over more bytes.
func extSum(seed uint32, b []byte) uint32 { return ^crc32.Update(^seed, castagnoli, b) }

func extNumber(seed, n uint32) uint32 {
	return extSum(seed, binary.LittleEndian.AppendUint32(nil, n))
}

// sums tells by the superblock whether there are checksums, and their seed.
func (x *ext) readSums(superblock []byte, features uint32) {
	le := binary.LittleEndian
	if le.Uint32(superblock[100:])&extMetadataSums == 0 {
		return
	}
	x.sums = extSums{on: true, seed: extSum(0xffffffff, superblock[104:120])}
	if features&extOwnSeed != 0 {
		x.sums.seed = le.Uint32(superblock[0x270:])
	}
}

// checkGroup holds a group's descriptor against its checksum.
func (x *ext) checkGroup(group uint32, d []byte) error {
	if !x.sums.on {
		return nil
	}
	sum := extSum(extNumber(x.sums.seed, group), d[:30])
	sum = extSum(extSum(sum, []byte{0, 0}), d[32:])
	if uint16(sum) != binary.LittleEndian.Uint16(d[30:]) {
		return damaged("the checksum of its group %d does not match", group)
	}
	return nil
}

// checkInode holds an inode against its checksum, and gives the seed of what belongs to it.
func (x *ext) checkInode(number uint32, b []byte) (seed uint32, err error) {
	if !x.sums.on {
		return 0, nil
	}
	le := binary.LittleEndian
	seed = extSum(extNumber(x.sums.seed, number), b[100:104])
	want, mask := uint32(le.Uint16(b[124:])), uint32(0xffff)
	sum := extSum(extSum(seed, b[:124]), []byte{0, 0})
	if len(b) > 132 && le.Uint16(b[128:]) >= 4 { // it has the upper half
		want, mask = want|uint32(le.Uint16(b[130:]))<<16, 0xffffffff
		sum = extSum(extSum(extSum(sum, b[126:130]), []byte{0, 0}), b[132:])
	} else {
		sum = extSum(sum, b[126:])
	}
	if sum&mask != want {
		return seed, damaged("the checksum of the inode %d does not match", number)
	}
	return seed, nil
}

// checkFolder holds a block of a folder against the checksum at its end. Those of an index
// have none of this form.
func (x *ext) checkFolder(n *extNode, b []byte) error {
	if !x.sums.on || len(b) < extDirTail {
		return nil
	}
	le := binary.LittleEndian
	tail := b[len(b)-extDirTail:]
	if le.Uint32(tail) != 0 || le.Uint16(tail[4:]) != extDirTail || tail[6] != 0 || tail[7] != 0xde {
		const indexed = 0x1000
		if n.flags&indexed != 0 {
			return nil
		}
		return damaged("a block of its list has no checksum")
	}
	if extSum(n.seed, b[:len(b)-extDirTail]) != le.Uint32(tail[8:]) {
		return damaged("the checksum of a block of its list does not match")
	}
	return nil
}

// checkExtents holds a block of a file's map against its checksum.
func (x *ext) checkExtents(n *extNode, b []byte) error {
	if !x.sums.on {
		return nil
	}
	at := 12 + 12*int(binary.LittleEndian.Uint16(b[4:]))
	if at+4 > len(b) || extSum(n.seed, b[:at]) != binary.LittleEndian.Uint32(b[at:]) {
		return damaged("the checksum of a block of its map does not match")
	}
	return nil
}
