package tree

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"fitcheck/internal/pagetest"
)

// TestWhatIsRead holds what documents of every form are read as when a bit of them is another, or they are put together at
// random, against testdata/read.txt.
func TestWhatIsRead(t *testing.T) {
	var b strings.Builder
	for _, form := range []struct {
		name, text string
		parts      []string
	}{
		{"json", "{\"a\": [1, {\"b\": null}, \"x\\u00e9\"],\n \"c\": -1.5e3, \"d\": true}", []string{"{", "}", "[", "]", `"a"`, ":", ",", "1", "null", "true", `"x\n"`, "\n", " ", `{"a":1}`, "[[", "]]"}},
		{"yaml", "a: [1, {b: null}]\nc:\n  - x\n  - y: 'z'\nd: |\n  text\n", []string{"a: ", "b:\n", "  - x\n", "- ", "{", "}", "[", "]", "1", "\n", " ", "&x ", "*x", "|\n", "'q'", "# c\n", "? "}},
		{"xml", "<a x='1'><b>t</b><b/><c><![CDATA[<z>]]></c>\n<!-- n --></a>", []string{"<a>", "</a>", "<b x='1'>", "</b>", "<c/>", "t", "\n", "<!--", "-->", "&amp;", "&x;", "<?xml version='1.0'?>", " "}},
		{"csv", "a;b\n1;\"x;y\"\n2;z\n", []string{"a", ",", ";", "\t", "\n", `"`, `"q"`, "b", "1", " ", "\r\n", "#c\n"}},
		{"ini", "x = 0\n[one]\na = 1\nb: 'two'\n; c\n[two.three]\na = 2\na = 3\n", []string{"[s]\n", "a = 1\n", "b: 2\n", "[", "]", "=", "; c\n", "# c\n", "\n", "k", "'q'", "[s.t]\n", " "}},
	} {
		var parts [][]byte
		for _, p := range form.parts {
			parts = append(parts, []byte(p))
		}
		read := func(data []byte) (string, error) {
			n, err := Parse(form.name, data)
			if err != nil {
				return "", err
			}
			return shown(n), nil
		}
		pagetest.Turned(&b, form.name, []byte(form.text), read)
		pagetest.Random(&b, form.name, 2000, parts, read)
		n, err := Parse(form.name, []byte(form.text))
		fmt.Fprintf(&b, "%s %v\n", shown(n), err)
	}
	pagetest.Hold(t, filepath.Join("testdata", "read.txt"), b.String())
}

// shown writes a tree with its lines.
func shown(n *Node) string {
	switch {
	case n == nil:
		return "nothing"
	case n.IsMap():
		var out []string
		for _, k := range n.Keys {
			out = append(out, fmt.Sprintf("%q: %s", k, shown(n.Of[k])))
		}
		return fmt.Sprintf("%d{%s}", n.Line, strings.Join(out, ", "))
	case n.List != nil:
		var out []string
		for _, c := range n.List {
			out = append(out, shown(c))
		}
		return fmt.Sprintf("%d%q[%s]", n.Line, n.Text, strings.Join(out, ", "))
	}
	return fmt.Sprintf("%d%q", n.Line, n.Text)
}
