package device

import (
	"regexp"
	"strings"
	"unicode/utf8"
)

// line is one line of a capture as a person would have seen it.
type line struct {
	number int // of the file, from 1
	text   string
}

// maxColumn bounds where a carriage or escape can move the cursor to.
const maxColumn = 4096

var (
	// paging is what pagers leave at the beginning of a line when the text goes
	// on behind it.
	paging = regexp.MustCompile(`^\s*(?:[-<(\[]+\s*(?i:` + strings.Join(pagers, "|") + `)(?:[^\pL][^)>\]-]*)?[->)\]]+|(?i:press (?:any key|space|enter)(?: to continue| for more)?[. ]*|(?:weiter mit|appuyez sur|pulse|premere|druk op|naciśnij|нажмите)\b?[^:=]{0,40}(?:taste|touche|tecla|tasto|toets|klawisz|клавишу)[. ]*))\s*`)
	// stamp is a time that a terminal program writes before each line.
	stamp = regexp.MustCompile(`^\[?\d{4}-\d\d-\d\d[ T_]\d\d:\d\d:\d\d(?:[.,]\d+)?(?:Z|[+-]\d\d:?\d\d)?\]?:?\s`)
)

// pagers are the words with which pagers wait between their marks, in the languages of consoles.
var pagers = []string{"more", "next page", "space to continue", "mehr", "weiter", "nächste seite", "suite", "page suivante", "más", "mas", "siguiente", "altro", "continua", "pagina seguente", "mais", "meer", "volgende", "mer", "mere", "lisää",
	"więcej", "dalej", "další", "tovább", "devam", "далее", "ещё", "еще", "продолжение", "更多", "下一页", "続く", "続き", "次へ", "次のページ", "더 보기", "계속"}

// screenLines replays a capture: carriage returns, backspaces and the escape
// sequences of ECMA-48 that move within a line act as on a terminal, others
// are dropped, and what a pager wrote between the lines is taken out.
//
// In one piece: one automaton over the bytes; its states share the line.
func screenLines(data []byte) []line {
	var out []line
	var row []rune
	at, number := 0, 1
	flush := func() {
		text := strings.TrimRight(string(row), " \x00")
		text = paging.ReplaceAllString(text, "")
		out = append(out, line{number, text})
		row, at = row[:0], 0
		number++
	}
	put := func(r rune) {
		for len(row) <= at {
			row = append(row, ' ')
		}
		row[at] = r
		if at < maxColumn {
			at++
		}
	}
	for i := 0; i < len(data); {
		r, n := utf8.DecodeRune(data[i:])
		if r == utf8.RuneError && n == 1 {
			r = '\ufffd'
		}
		i += n
		switch {
		case r == '\n':
			flush()
		case r == '\r':
			at = 0
		case r == '\b':
			at = max(0, at-1)
		case r == '\t':
			for next := (at/8 + 1) * 8; at < next && at < maxColumn; {
				put(' ')
			}
		case r == 0x1b:
			used, final, param := escape(data[i:])
			i += used
			switch final {
			case 'C':
				at = min(maxColumn, at+max(1, param))
			case 'D':
				at = max(0, at-max(1, param))
			case 'G':
				at = min(maxColumn, max(0, param-1))
			case 'K':
				switch {
				case param == 2:
					row = row[:0]
				case param == 0 && at < len(row):
					row = row[:at]
				}
			}
		case r < 0x20 || r == 0x7f: // bells and the like
		default:
			put(r)
		}
	}
	if len(row) > 0 {
		flush()
	}
	return out
}

// escape reads what follows an ESC: how many bytes belong to it, the final
// byte of a control sequence (0 for others) and its first parameter.
func escape(b []byte) (used int, final byte, param int) {
	if len(b) == 0 {
		return 0, 0, 0
	}
	switch b[0] {
	case '[':
		for i, c := range b[1:min(len(b), 64)] {
			switch {
			case c >= '0' && c <= '9':
				if param < maxColumn && final == 0 {
					param = param*10 + int(c-'0')
				}
			case c >= 0x40 && c <= 0x7e:
				return i + 2, c, param
			case c < 0x20: // broken off
				return i + 1, 0, 0
			}
		}
		return min(len(b), 64), 0, 0
	case ']', 'P', '_', '^': // a string up to BEL or ESC \
		for i, c := range b[:min(len(b), 4096)] {
			if c == 7 {
				return i + 1, 0, 0
			}
			if c == 0x1b && i > 0 {
				return min(i+2, len(b)), 0, 0
			}
			if c == '\n' {
				return i, 0, 0
			}
		}
		return min(len(b), 4096), 0, 0
	}
	return shortEscape(b), 0, 0
}

// shortEscape tells how many bytes belong to an escape sequence that is neither a control sequence nor a string: intermediate
// bytes, then the final one (ECMA-35, section 13.2).
func shortEscape(b []byte) int {
	b = b[:min(len(b), 8)]
	for i, c := range b {
		switch {
		case c < 0x20 || c > 0x7e: // broken off
			return i
		case c > 0x2f:
			return i + 1
		}
	}
	return len(b)
}

// bare is a line without the time that a terminal program put before it.
func (l line) bare() string { return stamp.ReplaceAllString(l.text, "") }
