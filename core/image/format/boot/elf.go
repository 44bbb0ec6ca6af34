package boot

import (
	"encoding/binary"
	"encoding/hex"
	"fmt"

	"fitcheck/core/fact"
	"fitcheck/core/image"
)

// ELF, as in the System V Application Binary Interface, chapter 4: 32 and 64
// bits, both byte orders.
//
//	 0  magic        0x7f "ELF"
//	 4  class        1: 32 bits, 2: 64 bits
//	 5  data         1: little-endian, 2: big-endian
//	 6  version, 7 osabi, 8 abiversion
//	16  type, 18 machine, 20 version
//	24  entry, phoff, shoff: 4 or 8 bytes each
//	    flags, ehsize, phentsize, phnum, shentsize, shnum, shstrndx

func init() {
	register(&image.Format{Name: "elf",
		Doc:      image.Doc{Told: `0x7f "ELF", 32 and 64 bits, both byte orders`, Sums: "structure", Facts: "arch, type, build-id", From: "System V ABI, chapter 4"},
		Suffixes: []string{".elf"}, Title: "ELF file", Firmware: true, Deep: true, Magics: []image.Magic{{At: 0, Bytes: "\x7fELF"}}, Read: readELF})
}

var elfTypes = map[uint64]string{1: "relocatable", 2: "executable", 3: "shared object or position-independent executable", 4: "core dump"}

// In one piece: the fields follow each other as they lie in the header.
func readELF(s *image.Source) (*image.Image, error) {
	m := &image.Image{}
	ident, err := s.Bytes(0, 16)
	if err != nil {
		return nil, err
	}
	size, word, order := 52, 4, binary.ByteOrder(binary.LittleEndian)
	if ident[4] == 2 {
		size, word = 64, 8
	}
	if ident[5] == 2 {
		order = binary.BigEndian
	}
	h, err := m.Header(s, "an ELF header", 0, size, order)
	if err != nil {
		return nil, err
	}
	h.Raw("magic", 0, 4, "ELF file")
	class := h.Named("class", 4, 1, map[uint64]string{1: "32 bits", 2: "64 bits"})
	data := h.Named("data", 5, 1, map[uint64]string{1: "little-endian", 2: "big-endian"})
	if class == "" || data == "" {
		return m, fmt.Errorf("its class (%d) or byte order (%d) is none that ELF knows", ident[4], ident[5])
	}
	h.Dec("osabi", 7, 1, "")
	h.Fact(fact.Type, h.Named("type", 16, 2, elfTypes))
	machine := h.Dec("machine", 18, 2, "not known")
	if arch := image.MachineArch(machine, word == 8, order == binary.BigEndian); arch != "" {
		h.Mean("%s", arch)
		h.Fact(fact.Arch, arch)
	}
	if v := h.Dec("version", 20, 4, ""); v != 1 {
		m.Problem("it is of the version %d, and ELF has only 1", v)
	}
	entry := h.Hex("entry", 24, word, "address to start at")
	m.Entry = &entry
	at := 24 + word
	phoff := h.Hex("phoff", at, word, "program headers")
	shoff := h.Hex("shoff", at+word, word, "section headers")
	at += 2 * word
	h.Hex("flags", at, 4, "")
	if n := h.Dec("ehsize", at+4, 2, ""); n != uint64(size) {
		m.Problem("its header is said to have %d bytes, and has %d", n, size)
	}
	phentsize, phnum := h.Dec("phentsize", at+6, 2, ""), h.Dec("phnum", at+8, 2, "program headers")
	shentsize, shnum := h.Dec("shentsize", at+10, 2, ""), h.Dec("shnum", at+12, 2, "section headers")
	h.Dec("shstrndx", at+14, 2, "")
	m.Extent = int64(size)
	table := func(name string, off, entry, n uint64, least uint64) bool {
		switch {
		case n == 0 || off == 0:
			return false
		case entry < least || off > 1<<48:
			m.Problem("its table of %s makes no sense (%d entries of %d bytes at 0x%x)", name, n, entry, off)
			return false
		}
		m.Extent = max(m.Extent, int64(off+entry*n))
		return true
	}
	sections := table("section headers", shoff, shentsize, shnum, map[int]uint64{4: 40, 8: 64}[word])
	if table("program headers", phoff, phentsize, phnum, map[int]uint64{4: 32, 8: 56}[word]) {
		if err := elfSegments(m, s, int64(phoff), int(phentsize), int(phnum), word, order); err != nil {
			return m, err
		}
	}
	if _, known := m.First(image.BuildID); sections && !known {
		return m, elfSections(m, s, int64(shoff), int(shentsize), int(shnum), word, order)
	}
	return m, nil
}

// elfSections reads the section headers for notes that no segment holds.
func elfSections(m *image.Image, s *image.Source, at int64, entry, n, word int, order binary.ByteOrder) error {
	for i := range min(n, 1024) {
		b, err := s.UpTo(at+int64(i*entry), map[int]int{4: 40, 8: 64}[word])
		if err != nil {
			return err
		}
		if len(b) < map[int]int{4: 40, 8: 64}[word] {
			return nil // that it is cut off, the extent tells
		}
		h := m.Block(b, 0, order)
		kind, off, size := h.Get(4, 4), int64(h.Get(8+2*word, word)), int64(h.Get(8+3*word, word))
		if kind == 7 && size > 12 && size < 64<<10 && off > 0 {
			if err := elfNotes(m, s, off, int(size), order); err != nil {
				return err
			}
		}
	}
	return nil
}

// elfSegments reads the program headers: how far the file must reach, and the
// build id among the notes.
func elfSegments(m *image.Image, s *image.Source, at int64, entry, n, word int, order binary.ByteOrder) error {
	dynamic, load, longest := false, int64(0), int64(0)
	for i := range min(n, 256) {
		b, err := s.Bytes(at+int64(i*entry), map[int]int{4: 32, 8: 56}[word])
		if err != nil {
			if err == image.ErrBeyond {
				return err
			}
			m.Problem("its program headers reach past its end")
			return nil
		}
		h := m.Block(b, 0, order)
		kind, off, size := h.Get(0, 4), int64(h.Get(word, word)), int64(h.Get(4*word, word))
		if kind == 0 || off < 0 || size < 0 || off+size < off {
			continue
		}
		m.Extent = max(m.Extent, off+size)
		if kind == 2 || kind == 3 { // it is linked to others when it starts
			dynamic = true
		}
		if kind == 1 && size > longest {
			load, longest = off, size
		}
		if kind == 4 && size > 12 && size < 64<<10 {
			if err := elfNotes(m, s, off, int(size), order); err != nil {
				return err
			}
		}
	}
	if !dynamic && m.FirstText(fact.Type) == elfTypes[2] {
		packedKernel(m, s, load, longest)
	}
	return nil
}

// packedKernel looks for a compressed kernel in a program that unpacks it: such a program
// is short, and nearly all of what is loaded is the kernel.
func packedKernel(m *image.Image, s *image.Source, from, size int64) {
	const code = 256 << 10
	if size < 4*code {
		return
	}
	b, err := s.UpTo(from, code)
	if err != nil {
		return
	}
	if at := streamIn(b); at >= 0 {
		p := m.Part("payload", from+int64(at), size-int64(at))
		p.Guess, p.Starts = true, true
	}
}

func elfNotes(m *image.Image, s *image.Source, off int64, size int, order binary.ByteOrder) error {
	b, err := s.UpTo(off, size)
	if err != nil {
		return err
	}
	for at := 0; at+12 <= len(b); {
		name, desc, kind := int(order.Uint32(b[at:])), int(order.Uint32(b[at+4:])), order.Uint32(b[at+8:])
		start := at + 12 + (name+3)&^3
		if name < 0 || desc < 0 || name > len(b) || desc > len(b) || start+desc > len(b) {
			return nil
		}
		if kind == 3 && name == 4 && string(b[at+12:at+15]) == "GNU" {
			id := hex.EncodeToString(b[start : start+desc])
			m.Field("build_id", off+int64(start), b[start:start+desc], id, "identifies this very build")
			m.Fact(image.BuildID, id, off+int64(start), int64(desc))
		}
		at = start + (desc+3)&^3
	}
	return nil
}
