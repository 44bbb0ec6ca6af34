package page

import (
	"bytes"
	"strings"
	"testing"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const hostile = "a\x1b[2Jb\u202ec\u0007d\x7fe\u0085f\u200bg\U000e0041"

// No name out of a package can act on the terminal or on who reads along.
func TestSafe(t *testing.T) {
	assert.Equal(t, `a\u001b[2Jb\u202ec\u0007d\u007fe\u0085f\u200bg\ue0041`, Safe(hostile))
	assert.Equal(t, "Brückwasser 8.4.2 — 電車", Safe("Brückwasser 8.4.2 — 電車"), "letters of all scripts stay")
	assert.Equal(t, `two\u000alines`, Safe("two\nlines"), "nor begin a line of its own")
}

func TestLinesKeepTheWidth(t *testing.T) {
	long := strings.Repeat("the device is of the model QM-8T, ", 20) + strings.Repeat("x", 300) + " end 電車" + strings.Repeat("電", 120)
	for _, width := range []int{40, 80, 100} {
		for _, color := range []bool{false, true} {
			var b bytes.Buffer
			(&Screen{Out: &b, Width: width, Color: color}).Show(&Page{Document: true, Blocks: []Block{Title{Word: "MISFIT", Tone: Bad, Text: long}}})
			lines := strings.Split(strings.TrimSuffix(b.String(), "\n"), "\n")
			require.Greater(t, len(lines), 3)
			for i, l := range lines {
				if plain := strings.TrimSpace(text.StripEscape(l)); i == 0 || strings.Contains(plain, " ") {
					assert.LessOrEqual(t, text.StringWidthWithoutEscSequences(l), width, "only a word that is longer stands out, alone")
				}
				if i > 0 {
					assert.True(t, strings.HasPrefix(text.StripEscape(l), "        "), "further lines stand under the first: %q", l)
				}
			}
			together := strings.ReplaceAll(strings.ReplaceAll(text.StripEscape(b.String()), "\n", ""), " ", "")
			assert.Equal(t, "MISFIT"+strings.ReplaceAll(long, " ", ""), together, "nothing is lost")
			assert.Equal(t, color, strings.Contains(b.String(), "\x1b["), "colour only where it is wanted")
		}
	}
	var b bytes.Buffer
	(&Screen{Out: &b}).Show(&Page{Blocks: []Block{Line{Text: long}}})
	assert.Equal(t, long+"\n", b.String(), "without a width lines are whole")
}

// What can be pasted stays in one piece: words that are longer than a line, and commands.
func TestWhatCanBePastedIsWhole(t *testing.T) {
	shown := func(t string) string {
		var b bytes.Buffer
		(&Screen{Out: &b, Width: 40}).Show(&Page{Blocks: []Block{List{Items: []Item{{Text: t}}}}})
		return b.String()
	}
	digest := strings.Repeat("0123456789abcdef", 4)
	assert.Contains(t, shown("the digest of it is "+digest+" by the list"), "\n  "+digest+"\n")
	for text, command := range map[string]string{
		"go by way of 8.2.1; fitcheck path -device devices/cab.yaml -to 8.4.2 tells more":  "fitcheck path -device devices/cab.yaml -to 8.4.2",
		"fitcheck stage -device 'my core' -into DIR -to 6.4.1; then the rest of the night": "fitcheck stage -device 'my core' -into DIR -to 6.4.1;",
		"fitcheck survey 'a name and more.zip' lists them, one after the other":            "fitcheck survey 'a name and more.zip'",
	} {
		assert.Contains(t, strings.Split(strings.ReplaceAll(shown(text), "  ", ""), "\n"), command, text)
	}
	assert.NotContains(t, shown("fitcheck path -device a -to b tells more"), "\u00a0")
}
