package plan

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"fitcheck/internal/pagetest"
)

// TestWhatTextsSay holds what windows of a night and lines of a capture are taken to say against testdata/texts.txt.
func TestWhatTextsSay(t *testing.T) {
	var b strings.Builder
	for _, window := range []string{"", "90", " 90 ", "0", "1", "-1", "10080", "10081", "22:00-04:00", "22:00 – 04:00", "04:00-22:00", "00:00-00:00", "00:00-24:00", "24:00-01:00", "24:30-01:00", "23:59-00:00", "22:60-23:00", "25:00-26:00", "2:00-3:00", "22:00-04:00 why", "22-04", "x"} {
		n, err := ReadWindow(window)
		fmt.Fprintf(&b, "window %q: %d minutes from %d, %v; it begins at %s, and 90 minutes on it is %s\n", window, n.Minutes, n.Start, err, n.Clock(0), n.Clock(90))
		for _, x := range []string{"02:00-03:00 nightly backup", "21:30-22:30", "03:30-04:30 x", "05:00-06:00 after it", "22:00-22:00", "00:00-24:00", "23:00-01:00", "nonsense", "02:00-03:00"} {
			m := n
			m.Excluded = nil
			err := m.Exclude(x)
			fmt.Fprintf(&b, "    without %q: %v %v\n", x, m.Excluded, err)
		}
	}
	lines := []string{
		"all images agree", "All images agree.", "not all images agree", "all images agreed", "small images agree", "all images agree, none differs", "all images agree: no error", "all images agree with errors", "it cannot be said that all images agree", "images agree", "",
		"don't say all images agree", "unable: all images agree", "all images agree all images agree", "İ all images agree", "failed. all images agree", "never; all images agree", "all images  agree", "(all images agree)", "xall images agree", "all images agree2",
	}
	for _, l := range lines {
		fmt.Fprintf(&b, "%q says that all images agree: %v, and nothing: %v; it names a file: %v\n", l, says(l, "all images agree"), says(l, ""), anotherFile(l))
	}
	for _, l := range []string{"sys-7.bin 7113", "a.b", "8.4.2", "x.img2", "x.2", "-.im", "v1.img is 7113 bytes", ".hidden"} {
		fmt.Fprintf(&b, "%q names a file: %v\n", l, anotherFile(l))
	}
	for _, l := range []string{"", "one", " one \n  two\n", "\n\n", "a\n\nb"} {
		fmt.Fprintf(&b, "commands of %q: %q\n", l, commands(l))
	}
	pagetest.Hold(t, filepath.Join("testdata", "texts.txt"), b.String())
}
