package device

import (
	"encoding/hex"
	"regexp"
	"strings"
)

// dumpLine is a line of a hex dump: an offset, then bytes or words in hex, then
// perhaps the text. "0x0000: 54 6c", "00000000  54 6c 76 49 |Tlv|",
// "00000000: 546c 7649".
var dumpLine = regexp.MustCompile(`^\s*(?:0x)?[0-9A-Fa-f]{1,8}:?\s+((?:(?:0x)?(?:[0-9A-Fa-f]{2}){1,4}[ \t-]{1,3})*(?:0x)?(?:[0-9A-Fa-f]{2}){1,4})(?:\s{2,}.*|\s+\|.*|\s*)$`)

// hexDump reads the bytes of a hex dump out of a text, and the line of each. A
// text that is none gives nothing.
func hexDump(lines []line) (data []byte, at []int) {
	for _, l := range lines {
		m := dumpLine.FindStringSubmatch(l.bare())
		if m == nil {
			if len(data) > 0 && strings.TrimSpace(l.text) != "" {
				break // the dump is over
			}
			continue
		}
		for _, word := range strings.FieldsFunc(m[1], func(r rune) bool { return r == ' ' || r == '\t' || r == '-' }) {
			b, err := hex.DecodeString(strings.TrimPrefix(word, "0x"))
			if err != nil {
				continue
			}
			data = append(data, b...)
			for range b {
				at = append(at, l.number)
			}
		}
		if len(data) > 64<<10 {
			break
		}
	}
	return data, at
}
