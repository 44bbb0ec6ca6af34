package image

import (
	"bytes"
	"encoding/json"
	"regexp"
	"unicode/utf8"
)

// What people save in place of firmware, and what lies beside it in a
// package: recognised so that it can be named.

func init() {
	Register(&Format{Name: "html", Title: "HTML page", Sniff: func(h []byte) bool { return htmlStart.Match(blanks(h)) }})
	Register(&Format{Name: "xml", Title: "XML document", Sniff: func(h []byte) bool { return bytes.HasPrefix(blanks(h), []byte("<?xml")) }})
	Register(&Format{Name: "pdf", Title: "PDF document", Sniff: func(h []byte) bool { return bytes.HasPrefix(h, []byte("%PDF-")) }})
	Register(&Format{Name: "pem", Title: "PEM text", Sniff: func(h []byte) bool { return bytes.HasPrefix(h, []byte("-----BEGIN ")) }})
	Register(&Format{Name: "json", Title: "JSON document", Sniff: isJSON})
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
	if len(b) < 2 || b[0] != '{' && b[0] != '[' || !isText(h) {
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

// isText: UTF-8 (a character cut off at the end of the head is fine) without
// control characters other than white space.
func isText(h []byte) bool {
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
