package device

import (
	"bytes"
	"slices"
)

// form is one form of files that tell what a device is. The file that reads it registers it; nothing
// else lists the forms.
type form struct {
	// rank orders forms that the same file may suit: lower is asked first. Those below textRank are
	// asked of any bytes, the others of texts only.
	rank int
	// read reads a file; ok is false for one that is not of this form.
	read func(in *input) (r *Reading, ok bool, err error)
}

// textRank is the rank from which on forms are asked of texts only.
const textRank = 50

var forms []form

func registerForm(f form) {
	i, _ := slices.BinarySearchFunc(forms, f.rank, func(g form, rank int) int { return g.rank - rank })
	forms = slices.Insert(forms, i, f)
}

// input is a file that is to be read, with its text brought to UTF-8.
type input struct {
	file  string
	data  []byte
	rules []CaptureRule

	seen  bool
	lines []line
}

// begins is the file without white space in front.
func (in *input) begins() []byte { return bytes.TrimLeft(in.data, " \t\r\n") }

// isText tells whether no byte at its beginning is NUL.
func (in *input) isText() bool { return bytes.IndexByte(in.data[:min(len(in.data), 4096)], 0) < 0 }

// screen are its lines as a person would have seen them.
func (in *input) screen() []line {
	if !in.seen {
		in.seen, in.lines = true, unwrap(screenLines(in.data))
	}
	return in.lines
}
