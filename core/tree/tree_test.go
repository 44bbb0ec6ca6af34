package tree

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// told writes a tree as "line:key=text".
func told(n *Node) string {
	switch {
	case n.Of != nil:
		var out []string
		for _, k := range n.Keys {
			out = append(out, fmt.Sprintf("%d:%s=%s", n.Of[k].Line, k, told(n.Of[k])))
		}
		return "{" + strings.Join(out, " ") + "}"
	case n.List != nil:
		var out []string
		for _, c := range n.List {
			out = append(out, told(c))
		}
		return "[" + strings.Join(out, " ") + "]"
	}
	return n.Text
}

func TestINI(t *testing.T) {
	for text, want := range map[string]string{
		"[main]\nfile = a.img\nsize: 12\n":                  "[{1:$section=main 2:file=a.img 3:size=12}]",
		"\ufeffa=1\r\n; no\r\n# no\r\n\r\n[ x ]\r\nb=2\r\n": "[{1:a=1} {5:$section=x 6:b=2}]",
		"[x]\na=1\n[x]\na=2\n":                              "[{1:$section=x 2:a=1} {3:$section=x 4:a=2}]",
		"active\n":                                          "[{1:active=true}]",
		"a = \"x y\"\nb = 'z'\nc = \"z\n":                   "[{1:a=x y 2:b=z 3:c=\"z}]",
		"a = one \\\n  two\nb = 3\n":                        "[{1:a=one two 3:b=3}]",
		"a = x=y;z#1\n":                                     "[{1:a=x=y;z#1}]",
		"":                                                  "[]",
	} {
		n, err := Parse("ini", []byte(text))
		require.NoError(t, err, text)
		assert.Equal(t, want, told(n), "%q", text)
	}
	for text, line := range map[string]int{"a=1\n[main\n": 2, "\n= 1\n": 2, "[x]\na=1\na=2\n": 3} {
		_, err := Parse("ini", []byte(text))
		var at *Error
		require.ErrorAs(t, err, &at, text)
		assert.Equal(t, line, at.Line, "%q: %v", text, err)
	}
}

// An empty cell keeps its place, also where a tab separates: the cells after it stay in their
// columns.
func TestEmptyCells(t *testing.T) {
	for _, comma := range []string{",", ";", "\t"} {
		n, err := Parse("csv", []byte(strings.ReplaceAll("file,model,revision,size\na.bin,,B1,12\n,QM-8T,,\n", ",", comma)))
		require.NoError(t, err)
		require.Len(t, n.List, 2)
		assert.Equal(t, "", n.List[0].Of["model"].Text)
		assert.Equal(t, "B1", n.List[0].Of["revision"].Text)
		assert.Equal(t, "12", n.List[0].Of["size"].Text)
		assert.Equal(t, "QM-8T", n.List[1].Of["model"].Text)
	}
}
