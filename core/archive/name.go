package archive

import (
	"fmt"
	"path"
	"regexp"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/cases"
	"golang.org/x/text/unicode/norm"
)

// drive matches a drive letter at the beginning of a level of a name: on the systems
// that have drives, such a level begins anew.
var drive = regexp.MustCompile(`^[A-Za-z]:`)

// printable turns a name in a broken encoding into one that can be shown: the
// bytes that are not UTF-8 become %NN. Control characters stay; whatever
// shows a name escapes them.
func printable(name string) string {
	if utf8.ValidString(name) {
		return name
	}
	var b strings.Builder
	for i := 0; i < len(name); {
		r, n := utf8.DecodeRuneInString(name[i:])
		if r == utf8.RuneError && n == 1 {
			fmt.Fprintf(&b, "%%%02X", name[i])
		} else {
			b.WriteString(name[i : i+n])
		}
		i += n
	}
	return b.String()
}

// shortName is a name as it is told inside a sentence: of one that is long or holds what nobody sees, its beginning.
func shortName(name string) string {
	const most = 60
	name = strings.Map(func(r rune) rune {
		if Invisible(r) {
			return '·'
		}
		return r
	}, printable(name))
	if all := []rune(name); len(all) > most {
		return fmt.Sprintf("%s… (%d characters)", string(all[:most]), len(all))
	}
	return name
}

// SafeName cleans the name of an item for use below a folder. why says what is
// wrong with one that is never used. Whoever writes a file by a name that an input
// gives asks here.
func SafeName(name string) (clean, why string) {
	switch {
	case name == "" || name == "." || name == "./":
		return "", "it has no name"
	case strings.HasPrefix(name, "/"):
		return "", "its name is an absolute path"
	case drive.MatchString(name):
		return "", "its name begins with a drive letter"
	case strings.Contains(name, `\`):
		return "", "its name contains a backslash"
	case strings.ContainsFunc(name, Invisible):
		return "", "its name contains control characters or ones that nobody sees (direction, zero width)"
	}
	for level := range strings.SplitSeq(name, "/") {
		switch {
		case level == "..":
			return "", "its name climbs out of the package (..)"
		case drive.MatchString(level):
			return "", "its name contains a drive letter"
		}
	}
	return path.Clean(name), ""
}

// Invisible tells characters that could change how a name or text is shown,
// or hide that two names differ: control characters (C0, DEL, C1), those that
// only format (direction, zero width, tags) and the line separators.
func Invisible(r rune) bool {
	return unicode.IsControl(r) || unicode.In(r, unicode.Cf, unicode.Zl, unicode.Zp)
}

// exactKey is a name without what makes no difference to where it leads: empty
// levels and ".".
func exactKey(name string) string {
	clean := path.Clean("/" + strings.ReplaceAll(name, `\`, "/"))
	return clean[1:]
}

// sameKey is what names have in common that some system takes for one: besides
// exactKey's, those that differ in case only, in how a letter with an accent is
// composed (Unicode NFC), and in blanks and dots at the end of a level.
func sameKey(name string) string {
	key := exactKey(name)
	plain := true
	for i := 0; i < len(key); i++ {
		if c := key[i]; c >= utf8.RuneSelf || c >= 'A' && c <= 'Z' || (c == '.' || c == ' ') && (i+1 == len(key) || key[i+1] == '/') {
			plain = false
			break
		}
	}
	if plain {
		return key
	}
	levels := strings.Split(norm.NFC.String(cases.Fold().String(norm.NFC.String(key))), "/")
	for i, l := range levels {
		if t := strings.TrimRight(l, ". "); t != "" {
			levels[i] = t
		}
	}
	return strings.Join(levels, "/")
}
