package image

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"io"
	"io/fs"

	"fitcheck/core/archive"
	"fitcheck/core/content"
)

// How far files of formats reach whose headers do not say it, or whose magics are so short
// that they stand anywhere: by their whole structure, or by checksums all over them. Each
// gives 0 for what is none.

// measureTar follows the headers, each known by its checksum, to the zeros that end a tar.
func measureTar(c *archive.Content) (int64, error) {
	const block = 512
	b := make([]byte, block)
	for at, n := int64(0), 0; ; n++ {
		if k, err := c.ReadAt(b, at); k < block {
			return 0, fatalOnly(err)
		}
		if allOf(b, 0) {
			if k, err := c.ReadAt(b, at+block); k < block || !allOf(b, 0) {
				return 0, fatalOnly(err)
			}
			if n == 0 {
				return 0, nil
			}
			return at + 2*block, nil
		}
		if !archive.IsTar(b) || string(b[257:262]) != "ustar" {
			return 0, nil
		}
		size := tarSize(b[124:136])
		if size < 0 || size > c.Size()-at {
			return 0, nil
		}
		at += block + (size+block-1)/block*block
	}
}

// tarSize reads a size: octal digits, or a binary number whose first bit is set.
func tarSize(b []byte) int64 {
	if b[0]&0x80 != 0 {
		v := int64(b[0] & 0x7f)
		for _, c := range b[1:] {
			if v > 1<<48 {
				return -1
			}
			v = v<<8 | int64(c)
		}
		return v
	}
	v := int64(0)
	for _, c := range bytes.Trim(b, " \x00") {
		if c < '0' || c > '7' {
			return -1
		}
		v = v<<3 | int64(c-'0')
	}
	return v
}

// measureCpio follows the members to the trailer, of all archives that follow each other.
func measureCpio(c *archive.Content) (int64, error) {
	n, files, err := content.CpioLength(c.Reader(0, c.Size()))
	if err != nil || files == 0 {
		return 0, fatalOnly(err)
	}
	return n, nil
}

// measureZip looks for the end of the directory that begins where it says.
func measureZip(c *archive.Content) (int64, error) {
	const chunk, record = 256 << 10, 22
	buf := make([]byte, chunk)
	le := binary.LittleEndian
	for at := int64(0); at < c.Size(); at += chunk - record {
		n, err := c.ReadAt(buf, at)
		if err != nil && err != io.EOF {
			return 0, fatalOnly(err)
		}
		for b := buf[:n]; ; {
			i := bytes.Index(b, []byte("PK\x05\x06"))
			if i < 0 || len(b)-i < record {
				break
			}
			b = b[i:]
			end := at + int64(n-len(b))
			entries, length, from, note := le.Uint16(b[10:]), int64(le.Uint32(b[12:])), int64(le.Uint32(b[16:])), int64(le.Uint16(b[20:]))
			var head [4]byte
			if from+length == end && entries > 0 && end+record+note <= c.Size() {
				if _, err := c.ReadAt(head[:], from); err != nil && err != io.EOF {
					return 0, fatalOnly(err)
				}
				if string(head[:]) == "PK\x01\x02" {
					return end + record + note, nil
				}
			}
			b = b[4:]
		}
		if n < chunk {
			break
		}
	}
	return 0, nil
}

// measureFiles lists the files of a file system: all of its folders must make sense. size is
// what its header announces.
func measureFiles(format string, size func(head []byte) int64) func(c *archive.Content) (int64, error) {
	return func(c *archive.Content) (int64, error) {
		head, err := headOf(c)
		if err != nil {
			return 0, fatalOnly(err)
		}
		n := size(head)
		if n <= 0 || n > c.Size() {
			return 0, nil
		}
		fsys, err := content.Open(format, c.Section(0, n), n)
		if err != nil {
			return 0, fatalOnly(err)
		}
		entries := 0
		err = fsys.Walk(context.Background(), func(f *content.File) error {
			if entries++; f.Err != nil || f.Mode&fs.ModeIrregular != 0 {
				return errors.New("damaged")
			}
			return nil
		})
		if err != nil || entries == 0 && format != "ext" { // which has lost+found, at least
			return 0, fatalOnly(err)
		}
		return n, nil
	}
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

func extSize(h []byte) int64 {
	if len(h) < extAt+1024 {
		return 0
	}
	sb := h[extAt:]
	le := binary.LittleEndian
	log := le.Uint32(sb[24:])
	if log > 6 || le.Uint32(sb[0:]) == 0 {
		return 0
	}
	blocks := int64(le.Uint32(sb[4:]))
	if le.Uint32(sb[96:])&0x80 != 0 { // 64 bits
		blocks |= int64(le.Uint32(sb[336:])) << 32
	}
	if blocks <= 0 || blocks > 1<<40 {
		return 0
	}
	return blocks << (10 + log)
}

func ubifsSize(h []byte) int64 {
	if len(h) < 128 || binary.LittleEndian.Uint32(h) != 0x06101831 || h[20] != 6 {
		return 0
	}
	return int64(binary.LittleEndian.Uint32(h[36:])) * int64(binary.LittleEndian.Uint32(h[40:]))
}

// measureJFFS2 follows nodes, whose headers have checksums, over what is erased between
// them, to where neither goes on.
func measureJFFS2(c *archive.Content) (int64, error) {
	const chunk = 64 << 10
	r := &chunks{c: c, buf: make([]byte, chunk)}
	end, telling := int64(0), 0
	for at := int64(0); at+12 <= c.Size(); {
		b, err := r.at(at, 80)
		if err != nil {
			return 0, err
		}
		if len(b) < 12 {
			break
		}
		order := jffs2Order(b)
		if order == nil || jffs2CRC(b[:8]) != order.Uint32(b[8:]) {
			if b[0] != 0xff || b[1] != 0xff || b[2] != 0xff || b[3] != 0xff {
				break
			}
			at += 4
			continue
		}
		n := int64(order.Uint32(b[4:]))
		if n < 12 || n > c.Size()-at {
			break
		}
		switch kind := order.Uint16(b[2:]); {
		case kind == 0xe001 && len(b) >= 40 && jffs2CRC(b[:32]) == order.Uint32(b[32:]), kind == 0xe002 && len(b) >= 68 && jffs2CRC(b[:60]) == order.Uint32(b[64:]):
			telling++
		}
		at += (n + 3) &^ 3
		end = min(at, c.Size())
	}
	if telling < 2 {
		return 0, nil
	}
	return end, nil
}

// chunks reads a content onwards in small pieces.
type chunks struct {
	c    *archive.Content
	buf  []byte
	from int64
	n    int
}

// at gives up to n bytes; they hold until the next call.
func (r *chunks) at(at int64, n int) ([]byte, error) {
	if at < r.from || at+int64(n) > r.from+int64(r.n) {
		k, err := r.c.ReadAt(r.buf, at)
		if err != nil && err != io.EOF {
			return nil, err
		}
		r.from, r.n = at, k
	}
	b := r.buf[at-r.from : r.n]
	return b[:min(n, len(b))], nil
}

// fatalOnly is the error, where it ends the walk.
func fatalOnly(err error) error {
	if archive.Fatal(err) {
		return err
	}
	return nil
}
