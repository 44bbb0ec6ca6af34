package boot

import (
	"encoding/binary"
	"fmt"
	"io"

	"fitcheck/core/digest"
	"fitcheck/core/fact"
	"fitcheck/core/image"
)

// PE/COFF, as in the PE Format of the Microsoft documentation and section 2.1
// of the UEFI Specification 2.10 for its EFI subsystems. Little-endian. "MZ"
// begins the file, and at 0x3c stands where the PE header is:
//
//	 0  signature "PE\0\0"
//	 4  machine, 6 number of sections, 8 time, 12 symbols, 20 size of the
//	    optional header, 22 characteristics
//	24  optional header: magic 0x10b (PE32) or 0x20b (PE32+), …, 64 checksum,
//	    68 subsystem
//
// A Linux kernel that unpacks itself as an EFI program ("zimg" at 4) gives the
// place of the compressed kernel at 8 (offset), 12 (size), 24 (method).
func init() {
	register(&image.Format{Name: "pe",
		Doc:      image.Doc{Told: `"MZ" and "PE\0\0"`, Sums: "checksum, where there is one", Facts: "arch, type (EFI subsystem); a kernel that unpacks itself is looked into", From: "Microsoft PE Format; UEFI 2.10, section 2.1"},
		Suffixes: []string{".efi"}, Title: "PE/COFF program", Firmware: true, Deep: true, Rank: 2, Magics: []image.Magic{{At: 0, Bytes: "MZ"}}, Sniff: func(h []byte) bool {
			if len(h) < 0x40 {
				return false
			}
			at := int64(binary.LittleEndian.Uint32(h[0x3c:]))
			return at+4 <= int64(len(h)) && string(h[at:at+4]) == "PE\x00\x00"
		}, Read: readPE})
}

var peMachines = map[uint64]string{
	0x14c: "x86", 0x8664: "x86_64", 0x1c0: "arm", 0x1c2: "arm", 0x1c4: "arm", 0xaa64: "arm64", 0x200: "ia64", 0xebc: "efi-bytecode",
	0x5032: "riscv32", 0x5064: "riscv64", 0x6232: "loongarch32", 0x6264: "loongarch64",
}

var peSubsystems = map[uint64]string{
	1: "native", 2: "windowed program", 3: "console program", 10: "EFI application", 11: "EFI boot service driver", 12: "EFI runtime driver", 13: "EFI ROM", 16: "boot application",
}

// In one piece: the fields follow each other as they lie in the header.
func readPE(s *image.Source) (*image.Image, error) {
	m := &image.Image{}
	dos, err := m.Header(s, "an MZ header", 0, 0x40, binary.LittleEndian)
	if err != nil {
		return nil, err
	}
	dos.Text("magic", 0, 2, "MZ header")
	if string(dos.Bytes[4:8]) == "zimg" {
		dos.Text("zimg", 4, 4, "a kernel that unpacks itself")
		at, n := int64(dos.Dec("payload_offset", 8, 4, "compressed kernel")), int64(dos.Dec("payload_size", 12, 4, "bytes"))
		dos.Text("compression", 24, 16, "")
		m.Part("kernel", at, n).Starts = true
		m.Fact(fact.Component, "main", 4, 4)
	}
	base := int64(dos.Hex("pe_offset", 0x3c, 4, "PE header"))
	h, err := m.Header(s, "a PE header", base, 24, binary.LittleEndian)
	if err != nil {
		return m, err
	}
	h.Raw("signature", 0, 4, "PE header")
	h.Fact(fact.Arch, h.Named("machine", 4, 2, peMachines))
	sections := int(h.Dec("sections", 6, 2, ""))
	built := int64(h.Hex("time", 8, 4, ""))
	h.Mean("%s, or a number made from the content", image.UnixTime(built))
	optional := int(h.Dec("optional_header_size", 20, 2, ""))
	h.Hex("characteristics", 22, 2, "")
	if optional < 72 {
		return m, fmt.Errorf("its optional header has %d bytes, and EFI programs have 72 at least", optional)
	}
	o, err := m.Header(s, "the optional header", base+24, optional, binary.LittleEndian)
	if err != nil {
		return m, err
	}
	wide := o.Named("optional_magic", 0, 2, map[uint64]string{0x10b: "PE32", 0x20b: "PE32+"}) == "PE32+"
	entry := o.Hex("entry", 16, 4, "from the image's base")
	m.Entry = &entry
	o.Dec("image_size", 56, 4, "bytes in memory")
	headers := int64(o.Dec("headers_size", 60, 4, "bytes of all headers"))
	sum := o.Hex("checksum", 64, 4, "over the file")
	if sum == 0 {
		o.Mean("none")
	}
	o.Fact(fact.Type, o.Named("subsystem", 68, 2, peSubsystems))
	m.Extent = headers
	if at, n := int64(h.Get(8+4, 4)), int64(h.Get(8+8, 4)); at > 0 && n > 0 {
		h.Hex("symbols", 8+4, 4, fmt.Sprintf("%d symbols, and their names", n))
		end := at + 18*n
		b, err := s.Bytes(end, 4)
		if err != nil {
			return m, err
		}
		m.Extent = max(m.Extent, end+int64(binary.LittleEndian.Uint32(b)))
	}
	for i := range min(sections, 96) {
		b, err := s.Bytes(base+24+int64(optional)+int64(40*i), 40)
		if err != nil {
			return m, err
		}
		sec := m.Block(b, base+24+int64(optional)+int64(40*i), binary.LittleEndian)
		size, at := int64(sec.Get(16, 4)), int64(sec.Get(20, 4))
		sec.Text(fmt.Sprintf("section[%d]", i), 0, 8, fmt.Sprintf("%d bytes from 0x%x on", size, at))
		if size > 0 {
			m.Extent = max(m.Extent, at+size)
		}
	}
	// The fifth data directory says where signatures are, by offset.
	dirs := 96
	if wide {
		dirs = 112
	}
	if at := dirs + 4*8; optional >= at+8 {
		if off, n := int64(o.Get(at, 4)), int64(o.Get(at+4, 4)); off > 0 && n > 0 {
			o.Hex("signatures", at, 4, fmt.Sprintf("%d bytes of signatures", n))
			m.Extent = max(m.Extent, off+n)
		}
	}
	if sum != 0 {
		return m, peChecksum(m, s, base+24+64, sum)
	}
	m.LeaveOpen(0, m.Extent)
	return m, nil
}

// peSignatures finds where a PE program keeps its signatures; 0 for none.
func peSignatures(s *image.Source) (off, n int64) {
	le := binary.LittleEndian
	b, err := s.UpTo(0x3c, 4)
	if err != nil || len(b) < 4 {
		return 0, 0
	}
	b, err = s.UpTo(int64(le.Uint32(b)), 24+112+8*5)
	if err != nil || len(b) < 24+112+8*5 || string(b[:4]) != "PE\x00\x00" {
		return 0, 0
	}
	dirs := 24 + 96
	if le.Uint16(b[24:]) == 0x20b {
		dirs = 24 + 112
	}
	return int64(le.Uint32(b[dirs+8*4:])), int64(le.Uint32(b[dirs+8*4+4:]))
}

// peChecksum adds the file as 16-bit words with carry, its own place as zero,
// and then the file's length.
func peChecksum(m *image.Image, s *image.Source, at int64, want uint64) error {
	r, err := s.Reader(0)
	if err != nil {
		return err
	}
	if s.Size()-m.Extent > 4096 { // inside something larger
		r = io.LimitReader(r, m.Extent)
	}
	var total uint64
	var pos int64
	buf := make([]byte, 64<<10)
	for {
		n, err := io.ReadFull(r, buf)
		for i := 0; i < n; i += 2 {
			w := uint64(buf[i])
			if i+1 < n {
				w |= uint64(buf[i+1]) << 8
			}
			if p := pos + int64(i); p >= at && p < at+4 {
				continue // the sum's place is at an even offset
			}
			total += w
		}
		pos += int64(n)
		if err == io.EOF || err == io.ErrUnexpectedEOF {
			break
		}
		if err != nil {
			return err
		}
	}
	for total > 0xffff {
		total = total>>16 + total&0xffff
	}
	m.Checked("checksum", fmt.Sprintf("%08x", want), fmt.Sprintf("%08x", total+uint64(pos)), digest.Between(0, pos), at)
	return nil
}
