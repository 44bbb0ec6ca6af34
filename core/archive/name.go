package archive

import (
	"fmt"
	"path"
	"regexp"
	"strings"
	"unicode"
	"unicode/utf8"
)

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

// unsafeName cleans the name of an item for use below a folder; what is wrong
// with it is said in the second result.
func unsafeName(name string) (clean, why string) {
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
	for _, part := range strings.Split(name, "/") {
		if part == ".." {
			return "", "its name climbs out of the package (..)"
		}
	}
	return path.Clean(name), ""
}

// SafeName cleans the name of an item for use below a folder. why says what is
// wrong with one that is never used.
func SafeName(name string) (clean, why string) { return unsafeName(name) }

// Invisible tells characters that could change how a name or text is shown,
// or hide that two names differ: control characters (C0, DEL, C1), those that
// only format (direction, zero width, tags) and the line separators.
func Invisible(r rune) bool {
	return unicode.IsControl(r) || unicode.In(r, unicode.Cf, unicode.Zl, unicode.Zp)
}
