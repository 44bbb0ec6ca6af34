package notes

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"fitcheck/internal/pagetest"
)

// TestWhatSentencesAre holds how texts fall into sentences, and on which line each begins, against testdata/sentences.txt.
func TestWhatSentencesAre(t *testing.T) {
	var b strings.Builder
	for _, text := range []string{
		"One. Two.\nThree",
		"It needs 3.2. Have a console at hand.", "It needs a console 3.2 is not enough.", "It needs a console. 3.2 is not enough.", "It needs a console. v3.2 is not enough. V3.2 neither.", "As of rel. 6.4 it is gone.", "It is gone in a release. 6.4 has it again.",
		"Use a board, e.g. A2. Others, i.e. B1, do not. It holds for A1, A2, etc. Not for B1.",
		"Lamps vs. Ports. See no. 4. See No. Four. As in rev. A2. As in ver. B. See fig. 3. See Fig. Three. It takes approx. Ten minutes, incl. The restart. It ends. So.",
		"Really? Yes! \"So.\" He said so. (Not here.) \"There.\" (Here). No.",
		"A line\nthat goes on\nand ends. Another\nbegins there.\n\nA paragraph of its own",
		"* one item. With two sentences\n* another\n  that goes on\n- a third\n\n1. first\n2) second\n",
		"HEADING\n\nText under it.\n\nAnother heading\n---------------\nText. More.\n",
		"  \n\n.\n\n..  A\n", "No end at all", "Ends with blanks.   \n   And goes on.   \n",
		"Word." + strings.Repeat(" word", 198) + ". Next.", "Word." + strings.Repeat(" word", 199) + ". Next.", strings.Repeat("ä", 501) + ". Next.",
		"Eight by 8.4.2.Next without a blank. ends. in small letters.", "A.B. C.D. E", "Do this.\tThen that.\r\nThen more.\r\n",
		"page one. It goes on\x0cover there. And there.",
	} {
		doc, err := Read("n.txt", []byte(text), nil)
		if err != nil {
			fmt.Fprintf(&b, "%q: %v\n", pagetest.Cut(text, 80), err)
			continue
		}
		fmt.Fprintf(&b, "%q\n", pagetest.Cut(text, 160))
		for _, s := range doc.Sentences() {
			heading := ""
			if s.Heading {
				heading = " heading"
			}
			fmt.Fprintf(&b, "  %d%s: %q, %d bytes\n", s.Line, heading, pagetest.Cut(s.Text, 100), len(s.Text))
		}
	}
	require.NotContains(t, b.String(), "�")
	pagetest.Hold(t, filepath.Join("testdata", "sentences.txt"), b.String())
}
