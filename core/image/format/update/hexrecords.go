package update

import (
	"bufio"
	"bytes"
	"encoding/hex"
	"fmt"
	"regexp"

	"fitcheck/core/digest"
	"fitcheck/core/fact"
	"fitcheck/core/image"
)

// Intel HEX (Hexadecimal Object File Format Specification, revision A): lines
// ":" length address type data checksum; the bytes of a line add up to zero.
// Motorola S-records: lines "S" type length address data checksum; the bytes
// add up to 0xff.

func init() {
	register(&image.Format{Name: "ihex",
		Doc:      image.Doc{Told: "a first record that is well formed", Sums: "the checksum of every record", Facts: "title (S0), type", From: "Intel HEX rev. A; Motorola S-record"},
		Suffixes: []string{".ihex"}, Title: "Intel HEX file", Firmware: true, Rank: 3, Magics: []image.Magic{{At: 0, Bytes: ":"}}, Sniff: ihexStart.Match, Read: readIHex})
	register(&image.Format{Name: "srec",
		Doc:      image.Doc{Told: "a first record that is well formed", Sums: "the checksum of every record", Facts: "title (S0), type", From: "Intel HEX rev. A; Motorola S-record"},
		Suffixes: []string{".srec"}, Title: "Motorola S-record file", Firmware: true, Rank: 3, Magics: []image.Magic{{At: 0, Bytes: "S"}}, Sniff: srecStart.Match, Read: readSRec})
}

var (
	ihexStart = regexp.MustCompile(`^:[0-9A-Fa-f]{10,}\r?(\n|$)`)
	srecStart = regexp.MustCompile(`^S[0-9][0-9A-Fa-f]{6,}\r?(\n|$)`)
)

// memory gathers the addresses that records fill.
type memory struct {
	low, high uint64
	bytes     int64
	any       bool
}

func (a *memory) add(at uint64, n int) {
	if n == 0 {
		return
	}
	if !a.any || at < a.low {
		a.low = at
	}
	a.high = max(a.high, at+uint64(n))
	a.bytes += int64(n)
	a.any = true
}

// hexLines calls do for every line that is not blank, with the bytes that its
// hexadecimal digits give behind the given number of leading characters.
func hexLines(m *image.Image, s *image.Source, lead int, do func(number int, line string, b []byte) error) error {
	r, err := s.Reader(0)
	if err != nil {
		return err
	}
	lines := bufio.NewScanner(r)
	lines.Buffer(make([]byte, 4096), 4096)
	n := 0
	for lines.Scan() {
		n++
		line := bytes.TrimSpace(lines.Bytes())
		if len(line) == 0 {
			continue
		}
		var b []byte
		if len(line) > lead {
			b = make([]byte, hex.DecodedLen(len(line)-lead))
			if _, err := hex.Decode(b, line[lead:]); err != nil {
				b = nil
			}
		}
		if b == nil {
			return fmt.Errorf("line %d is no record: %.40q", n, line)
		}
		if err := do(n, string(line), b); err != nil {
			return err
		}
	}
	if err := lines.Err(); err == bufio.ErrTooLong {
		return fmt.Errorf("line %d is longer than any record", n+1)
	} else if err != nil {
		return err
	}
	return nil
}

func add8(b []byte) (sum byte) {
	for _, c := range b {
		sum += c
	}
	return sum
}

// records notes what all records tell together.
func records(m *image.Image, sums image.Tally, a memory, size int64) {
	m.Field("records", 0, nil, fmt.Sprint(sums.All()), "each with a checksum")
	if a.any {
		m.Field("addresses", 0, nil, fmt.Sprintf("0x%08x to 0x%08x", a.low, a.high-1), fmt.Sprintf("%d bytes of data", a.bytes))
		m.Load = &a.low
	}
	m.Tallied("checksums of its records", "in line %d", sums, digest.Between(0, size), 0)
	m.Fact(fact.Type, "memory image", 0, 1)
}

func readIHex(s *image.Source) (*image.Image, error) {
	m := &image.Image{}
	var a memory
	var upper uint64
	var sums image.Tally
	ended := false
	err := hexLines(m, s, 1, func(number int, line string, b []byte) error {
		if line[0] != ':' || len(b) < 5 || int(b[0])+5 != len(b) {
			return fmt.Errorf("line %d is no Intel HEX record: %.40q", number, line)
		}
		if ended {
			return fmt.Errorf("line %d follows the record that ends the file", number)
		}
		sums.Add(add8(b) == 0, int64(number))
		data := b[4 : len(b)-1]
		switch b[3] {
		case 0:
			a.add(upper+uint64(b[1])<<8+uint64(b[2]), len(data))
		case 1:
			ended = true
		case 2, 4:
			if len(data) == 2 {
				upper = uint64(data[0])<<8 | uint64(data[1])
				upper <<= map[byte]int{2: 4, 4: 16}[b[3]]
			}
		case 3, 5:
			if len(data) == 4 {
				entry := uint64(data[0])<<24 | uint64(data[1])<<16 | uint64(data[2])<<8 | uint64(data[3])
				m.Entry = &entry
			}
		default:
			m.Note("line %d has the type %d, which the format does not know", number, b[3])
		}
		return nil
	})
	if err == image.ErrBeyond {
		return m, err
	}
	records(m, sums, a, max(0, s.Size()))
	if err == nil && !ended {
		m.Problem("truncated: the record that ends the file (type 01) is missing")
	}
	return m, err
}

// bigEndian is a number of as many bytes as there are.
func bigEndian(b []byte) (n uint64) {
	for _, c := range b {
		n = n<<8 | uint64(c)
	}
	return n
}

// srecAddress are how many bytes the address of each type of record has.
var srecAddress = map[byte]int{'0': 2, '1': 2, '2': 3, '3': 4, '5': 2, '6': 3, '7': 4, '8': 3, '9': 2}

func readSRec(s *image.Source) (*image.Image, error) {
	m := &image.Image{}
	var a memory
	var sums image.Tally
	data, ended, counted := 0, false, false
	err := hexLines(m, s, 2, func(number int, line string, b []byte) error {
		width := srecAddress[line[1]]
		if line[0] != 'S' || width == 0 || len(b) < 3 || int(b[0])+1 != len(b) {
			return fmt.Errorf("line %d is no S-record: %.40q", number, line)
		}
		sums.Add(add8(b) == 0xff, int64(number))
		if len(b) < 2+width {
			return fmt.Errorf("line %d is too short for its type: %.40q", number, line)
		}
		at := bigEndian(b[1 : 1+width])
		body := b[1+width : len(b)-1]
		switch line[1] {
		case '0':
			if t := image.CString(body); number == 1 && image.IsText(body) && t != "" {
				m.Field("header", 0, []byte(line), t, "the maker's title")
				m.Fact(fact.Title, t, 0, int64(len(line)))
			}
		case '1', '2', '3':
			data++
			counted = false
			a.add(at, len(body))
		case '5', '6':
			counted = true
			if at != uint64(data)&(1<<(8*width)-1) {
				m.Problem("line %d counts %d data records, and there are %d", number, at, data)
			}
		case '7', '8', '9':
			ended, m.Entry = true, &at
		}
		return nil
	})
	if err == image.ErrBeyond {
		return m, err
	}
	records(m, sums, a, max(0, s.Size()))
	switch {
	case err != nil || ended:
	case counted: // so that none can be missing
		m.Note("the record that ends the file (S7, S8 or S9) is missing; its records are counted, and all of them are there")
	default:
		m.Problem("truncated: the record that ends the file (S7, S8 or S9) is missing")
	}
	return m, err
}
