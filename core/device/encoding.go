package device

import (
	"bytes"
	"fmt"
	"io"
	"regexp"
	"slices"

	"github.com/klauspost/compress/gzip"
	"golang.org/x/text/encoding/unicode"

	"fitcheck/core/yamlfile"
)

// decoded is what a source holds once it is inflated (gzip, RFC 1952) and written in UTF-8:
// terminal programs save captures in UTF-16, and log servers pack them.
func decoded(file string, data []byte) ([]byte, error) {
	if bytes.HasPrefix(data, []byte{0x1f, 0x8b}) {
		z, err := gzip.NewReader(bytes.NewReader(data))
		if err != nil {
			return nil, fmt.Errorf("%s: its gzip header is damaged; save the capture again", file)
		}
		data, err = io.ReadAll(io.LimitReader(z, yamlfile.MaxBytes+1))
		if err != nil {
			return nil, fmt.Errorf("%s: the gzip stream is damaged or cut short; save the capture again", file)
		}
		if len(data) > yamlfile.MaxBytes {
			return nil, fmt.Errorf("%s: unpacked, it is larger than the bound of one text (%d bytes); give the part that tells what the device is", file, yamlfile.MaxBytes)
		}
	}
	if order, ok := utf16Order(data); ok {
		out, err := unicode.UTF16(order, unicode.UseBOM).NewDecoder().Bytes(data)
		if err == nil {
			return out, nil
		}
	}
	return bytes.TrimPrefix(data, []byte("\ufeff")), nil
}

// utf16Order tells a text in UTF-16: by its byte order mark, else by every other byte being
// zero in lines of ASCII.
func utf16Order(data []byte) (unicode.Endianness, bool) {
	switch {
	case bytes.HasPrefix(data, []byte{0xff, 0xfe}):
		return unicode.LittleEndian, true
	case bytes.HasPrefix(data, []byte{0xfe, 0xff}):
		return unicode.BigEndian, true
	}
	head := data[:min(len(data), 512)&^1]
	var zero, text [2]int
	for i, c := range head {
		switch {
		case c == 0:
			zero[i%2]++
		case c == '\t' || c == '\n' || c == '\r' || c >= 0x20 && c < 0x7f:
			text[i%2]++
		}
	}
	half := len(head) / 2
	switch {
	case half < 4:
	case zero[1] > half*9/10 && text[0] > half*9/10:
		return unicode.LittleEndian, true
	case zero[0] > half*9/10 && text[1] > half*9/10:
		return unicode.BigEndian, true
	}
	return unicode.LittleEndian, false
}

// envelopes are what a log server writes before each message: RFC 5424, section 6, and the
// older form of RFC 3164, section 4.1, with or without its priority.
var envelopes = []*regexp.Regexp{
	regexp.MustCompile(`^<\d{1,3}>1 \S+ \S+ \S+ \S+ \S+ (?:-|(?:\[(?:[^\]\\]|\\.)*\])+)(?: \x{feff}?|$)`),
	regexp.MustCompile(`^(?:<\d{1,3}>)?[A-Z][a-z]{2} [ \d]\d \d\d:\d\d:\d\d \S+ [^\s:\[]+(?:\[\d+\])?:(?: |$)`),
	regexp.MustCompile(`^(?:<\d{1,3}>)?\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d\S* \S+ [^\s:\[]+(?:\[\d+\])?:(?: |$)`),
}

// logged tells by its first line a text that a log server wrote.
func logged(text []byte) bool {
	first, _, _ := bytes.Cut(text, []byte{'\n'})
	return slices.ContainsFunc(envelopes, func(e *regexp.Regexp) bool { return e.Match(first) })
}

// unwrap takes the envelope off the lines where all of them have one. A few alone are lines of
// the device's own log.
func unwrap(lines []line) []line {
	for _, e := range envelopes {
		in, of := 0, 0
		for _, l := range lines {
			if l.text == "" {
				continue
			}
			of++
			if e.MatchString(l.text) {
				in++
			}
		}
		if in < 2 || in*10 < of*9 {
			continue
		}
		out := slices.Clone(lines)
		for i := range out {
			out[i].text = e.ReplaceAllString(out[i].text, "")
		}
		return out
	}
	return lines
}
