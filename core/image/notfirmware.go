package image

import (
	"bytes"
	"encoding/json"
	"regexp"
	"unicode/utf8"

	"fitcheck/core/pattern"
)

// What people save in place of firmware, and what lies beside it in a
// package: recognised so that it can be named.

func init() {
	Register(&Format{Name: "signature", Title: "signature", Rank: 1, Sniff: func(h []byte) bool {
		return bytes.HasPrefix(h, []byte("-----BEGIN PGP SIG")) || bytes.HasPrefix(h, []byte("-----BEGIN PKCS7")) || bytes.HasPrefix(h, []byte("-----BEGIN CMS")) || isPGPSignature(h) || isCMS(h)
	}})
	Register(&Format{Name: "yaml", Title: "YAML document", Sniff: func(h []byte) bool {
		return IsText(h) && (bytes.HasPrefix(blanks(h), []byte("---\n")) || bytes.HasPrefix(blanks(h), []byte("%YAML ")))
	}})
	Register(&Format{Name: "html", Suffixes: []string{".html"}, Title: "HTML page", Sniff: func(h []byte) bool { return htmlStart.Match(blanks(h)) }})
	Register(&Format{Name: "xml", Suffixes: []string{".xml"}, Title: "XML document", Sniff: isXML})
	Register(&Format{Name: "pdf", Suffixes: []string{".pdf"}, Title: "PDF document", Sniff: func(h []byte) bool { return bytes.HasPrefix(h, []byte("%PDF-")) }})
	Register(&Format{Name: "pem", Title: "PEM text", Sniff: func(h []byte) bool { return bytes.HasPrefix(h, []byte("-----BEGIN ")) }})
	Register(&Format{Name: "json", Suffixes: []string{".json"}, Title: "JSON document", Sniff: isJSON})
}

// xmlStart is an element with its attributes, whatever comments stand before it: a document need not be declared.
var xmlStart = pattern.New(`^(?s:<!--.*?-->\s*)*<([A-Za-z_][\w.:-]*)(?:\s+[\w.:-]+\s*=\s*(?:"[^"<]*"|'[^'<]*'))*\s*/?>`)

func isXML(h []byte) bool {
	b := blanks(h)
	if bytes.HasPrefix(b, []byte("<?xml")) {
		return true
	}
	return bytes.HasPrefix(b, []byte("<")) && IsText(h) && xmlStart.MatchString(string(b)) && !htmlStart.Match(b)
}

// isPGPSignature: a binary OpenPGP signature packet (RFC 9580, section 4.2) of
// version 3 to 6, and of a length that a signature may have.
func isPGPSignature(h []byte) bool {
	if len(h) < 12 || len(h) > 4096 {
		return false
	}
	switch {
	case h[0] == 0x88:
		return int(h[1])+2 == len(h) && h[2] >= 3 && h[2] <= 6
	case h[0] == 0x89:
		return int(h[1])<<8|int(h[2])+3 == len(h) && h[3] >= 3 && h[3] <= 6
	case h[0] == 0xc2 && h[1] < 192:
		return int(h[1])+2 == len(h) && h[2] >= 3 && h[2] <= 6
	case h[0] == 0xc2 && h[1] < 224:
		return (int(h[1])-192)<<8+int(h[2])+192+3 == len(h) && h[3] >= 3 && h[3] <= 6
	}
	return false
}

// isCMS: DER of a CMS ContentInfo that holds SignedData (RFC 5652).
func isCMS(h []byte) bool {
	return len(h) > 20 && h[0] == 0x30 && h[1] >= 0x80 && h[1] <= 0x84 && bytes.Contains(h[2:min(len(h), 20)], []byte{0x06, 0x09, 0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 0x01, 0x07, 0x02})
}

var text = &Format{Name: "text", Title: "text"}

var htmlStart = regexp.MustCompile(`^(?is)(?:<\?xml[^>]*>\s*)?(?:<!--.*?-->\s*)*<(?:!doctype\s+html|html|head|body)[\s>]`)

// blanks skips a byte order mark and leading white space.
func blanks(h []byte) []byte {
	return bytes.TrimLeft(bytes.TrimPrefix(h, []byte("\xef\xbb\xbf")), " \t\r\n")
}

// isJSON tells a JSON object or array by its beginning: the decoder must read
// tokens without fault as far as the bytes reach.
func isJSON(h []byte) bool {
	b := blanks(h)
	if len(b) < 2 || b[0] != '{' && b[0] != '[' || !IsText(h) {
		return false
	}
	d := json.NewDecoder(bytes.NewReader(b))
	for range 8 {
		if _, err := d.Token(); err != nil {
			return !d.More() && d.InputOffset() >= int64(len(bytes.TrimRight(b, " \t\r\n")))
		}
	}
	return true
}

// IsText: UTF-8 (a character cut off at the end of the head is fine) without
// control characters other than white space.
func IsText(h []byte) bool {
	if len(h) == 0 {
		return false
	}
	for i := 0; i < len(h); {
		r, n := utf8.DecodeRune(h[i:])
		if r == utf8.RuneError && n == 1 && (len(h)-i >= utf8.UTFMax || utf8.FullRune(h[i:])) {
			return false
		}
		if r < ' ' && r != '\t' && r != '\n' && r != '\r' && r != '\f' && r != 0x1b || r == 0x7f {
			return false
		}
		i += n
	}
	return true
}
