package page

import (
	"bytes"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/archive"
)

// However the bytes come, nothing that acts on a terminal passes, and the program's own
// colours do where it paints.
func TestGuard(t *testing.T) {
	const evil = "a\x1b]0;owned\x07b\x1b[2Jc\u202ed\u200be\u0085f\xffg\x7fh\ti\u00fcj\n"
	const shown = `a\u001b]0;owned\u0007b\u001b[2Jc\u202ed\u200be\u0085f\xffg\u007fh` + "\ti\u00fcj\n"
	for _, step := range []int{1, 2, 3, 5, 1000} {
		var out bytes.Buffer
		g := NewGuard(&out, true)
		for p := []byte(evil); len(p) > 0; p = p[min(step, len(p)):] {
			n, err := g.Write(p[:min(step, len(p))])
			require.NoError(t, err)
			assert.Equal(t, min(step, len(p)), n)
		}
		require.NoError(t, g.Flush())
		assert.Equal(t, shown, out.String(), "in writes of %d", step)
	}
	red := (&Screen{Color: true}).paint(Bad, "no")
	for colors, want := range map[bool]string{true: red, false: `\u001b[31;1mno\u001b[0m`} {
		var out bytes.Buffer
		_, err := NewGuard(&out, colors).Write([]byte(red))
		require.NoError(t, err)
		assert.Equal(t, want, out.String())
	}
	var out bytes.Buffer
	g := NewGuard(&out, false)
	_, err := g.Write([]byte("cut \xe2\x80"))
	require.NoError(t, err)
	require.NoError(t, g.Flush())
	assert.Equal(t, `cut \xe2\x80`, out.String())
}

// Whatever the screens paint passes as it is.
func TestGuardPassesWhatIsPainted(t *testing.T) {
	p := &Page{}
	for tone := Plain; tone <= Code; tone++ {
		p.Add(Title{Word: "WORD", Tone: tone, Text: "text", About: []Item{{Text: "about", Tone: tone}}}, Head{"head"}, Line{"line", tone}, List{Items: []Item{{Marks: []Span{{"mark", tone}}, Text: "text", Tone: tone}}},
			Matrix{Lead: []string{"lead"}, Columns: []string{"a", "b", "c", "d"}, Rows: []MatrixRow{{[]string{"row"}, []Mark{Yes, No, Open, None}}}})
	}
	var plain, guarded bytes.Buffer
	(&Screen{Out: &plain, Color: true, Width: 100}).Show(p)
	(&Screen{Out: NewGuard(&guarded, true), Color: true, Width: 100}).Show(p)
	assert.Equal(t, plain.String(), guarded.String())
	assert.Contains(t, plain.String(), "\x1b[")
}

func FuzzGuard(f *testing.F) {
	f.Add([]byte("a\x1b[2J\u202e\xff"), 3)
	f.Fuzz(func(t *testing.T, data []byte, step int) {
		var out bytes.Buffer
		g := NewGuard(&out, false)
		step = max(1, step&0xff)
		for p := data; len(p) > 0; p = p[min(step, len(p)):] {
			_, err := g.Write(p[:min(step, len(p))])
			require.NoError(t, err)
		}
		require.NoError(t, g.Flush())
		require.True(t, utf8.Valid(out.Bytes()))
		for _, r := range out.String() {
			require.False(t, r != '\n' && r != '\t' && archive.Invisible(r), "%q", out.String())
		}
	})
}
