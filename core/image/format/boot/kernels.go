package boot

import (
	"bytes"
	"encoding/binary"

	"fitcheck/core/archive"
	"fitcheck/core/image"
)

// What the readers of kernel images share.

// compressedKernel looks for the compressed kernel behind a decompressor's
// code, and makes it a part.
func compressedKernel(m *image.Image, s *image.Source, from, to int64) {
	const code = 256 << 10 // the decompressor is smaller than this
	b, err := s.UpTo(from, int(max(0, min(code, to-from))))
	if err != nil {
		return
	}
	if at := streamIn(b); at >= 0 {
		p := m.Part("kernel", from+int64(at), to-from-int64(at))
		p.Guess, p.Starts = true, true
	}
}

// streamIn finds where a compressed stream begins; -1 for nowhere. The magic alone may be one
// of the decompressor's own texts.
func streamIn(b []byte) int {
	for _, magic := range []string{"\x1f\x8b\x08\x00", "\xfd7zXZ\x00", "\x28\xb5\x2f\xfd", "\x02\x21\x4c\x18", "BZh9", archive.LzopMagic, "\x5d\x00\x00", "\x6d\x00\x00"} {
		for at := 0; ; at++ {
			i := bytes.Index(b[at:], []byte(magic))
			if i < 0 {
				break
			}
			at += i
			if method := archive.CompressionOf(b[at:]); method != "" && archive.BeginsAs(method, b[at:]) {
				return at
			}
		}
	}
	return -1
}

// appendedTree looks for a device tree behind a kernel: one that begins at
// from, or that ends where the file does.
func appendedTree(m *image.Image, s *image.Source, from int64) {
	size := s.Size()
	if size < 0 && !s.Whole() {
		return
	}
	if b, err := s.UpTo(from, fdtHeader); from > 0 && err == nil && len(b) >= 8 && string(b[:4]) == fdtMagic {
		total := int64(binary.BigEndian.Uint32(b[4:]))
		switch _, err := readFDT(&image.Image{}, s, from); {
		case err == image.ErrBeyond:
		case err != nil || from+total > size:
			m.Problem("the device tree behind the kernel, at 0x%x, is cut short or damaged", from)
		default:
			m.Part("dtb", from, total).Starts = true
			m.Extent = max(m.Extent, from+total)
		}
		return
	}
	treeNearEnd(m, s, from, size)
}

// treeNearEnd looks for a device tree in the last MiB of a kernel: one that ends where the file does, but for padding, or
// begins where the kernel ends.
func treeNearEnd(m *image.Image, s *image.Source, from, size int64) {
	const room = 1 << 20
	at := max(from, size-room)
	if from > 0 && from <= size-fdtHeader {
		at = min(at, from)
	}
	if size-at < fdtHeader {
		return
	}
	b, err := s.UpTo(at, int(min(size-at, 2*room)))
	if err != nil {
		return
	}
	for i := 0; i+fdtHeader <= len(b); i += 4 {
		j := bytes.Index(b[i:], []byte(fdtMagic))
		if j < 0 {
			return
		}
		i += j
		total := int64(binary.BigEndian.Uint32(b[min(len(b)-4, i+4):]))
		end := at + int64(i) + total
		if i+fdtHeader <= len(b) && total >= fdtHeader && end <= size && (at+int64(i) == from || size-end < 4096) {
			if _, err := readFDT(&image.Image{}, s, at+int64(i)); err == nil {
				m.Part("dtb", at+int64(i), total).Starts = true
				if m.Extent > 0 {
					m.Extent = max(m.Extent, end)
				}
				return
			}
		}
		i = i &^ 3
	}
}
