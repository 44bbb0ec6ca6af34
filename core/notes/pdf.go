package notes

import (
	"bytes"
	"cmp"
	"compress/zlib"
	"errors"
	"fmt"
	"io"
	"math"
	"slices"
	"strings"

	"github.com/ledongthuc/pdf"
)

// Bounds of a PDF. What its streams inflate to is counted before the library
// sees any of them, since it inflates without a bound of its own.
const (
	maxPages    = 3000
	maxInflated = 256 << 20
)

// PDFReader makes lines of a PDF.
type PDFReader func(data []byte) ([]Line, error)

// PDF reads the text of a PDF, row by row. The library panics on damaged files,
// goes round in circles on hostile ones, and takes their word for how much
// memory they need: a program reads files of others in a process of its own,
// which it can end.
func PDF(data []byte) (lines []Line, err error) {
	if inflated(data) > maxInflated {
		return nil, fmt.Errorf("the PDF inflates to more than %d MiB, and is refused; save it as text", maxInflated>>20)
	}
	defer func() {
		if p := recover(); p != nil {
			lines, err = nil, fmt.Errorf("the PDF is damaged (%v); download it again, or save it as text", p)
		}
	}()
	return pdfRows(data)
}

// inflated counts what the deflated streams of a file hold.
func inflated(data []byte) int64 {
	total := int64(0)
	for rest := data; total <= maxInflated; {
		i := bytes.Index(rest, []byte("stream"))
		if i < 0 {
			break
		}
		rest = bytes.TrimLeft(rest[i+len("stream"):], "\r\n")
		if z, err := zlib.NewReader(bytes.NewReader(rest)); err == nil {
			n, _ := io.Copy(io.Discard, io.LimitReader(z, maxInflated-total+1))
			total += n
		}
	}
	return total
}

func pdfRows(data []byte) ([]Line, error) {
	r, err := pdf.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return nil, errors.New("the PDF cannot be read: it is damaged, or encrypted; save it as text")
	}
	if r.NumPage() > maxPages {
		return nil, fmt.Errorf("the PDF has %d pages, and no more than %d are read; save the part that matters", r.NumPage(), maxPages)
	}
	var out []Line
	for n := 1; n <= r.NumPage(); n++ {
		page := r.Page(n)
		if page.V.IsNull() {
			continue
		}
		text := pageText(page.Content().Text)
		for _, l := range readPlain(text) {
			l.Page = n
			out = append(out, l)
		}
		if len(out) > MaxLines {
			break
		}
	}
	if len(out) == 0 {
		return nil, errors.New("the PDF holds no text, only pictures perhaps; read it with your own eyes")
	}
	return out, nil
}

// ligatures are letters that fonts draw as one, by the letters that they stand for.
var ligatures = strings.NewReplacer("\n", " ", "\ufb00", "ff", "\ufb01", "fi", "\ufb02", "fl", "\ufb03", "ffi", "\ufb04", "ffl", "\ufb05", "st", "\ufb06", "st", "\u00ad", "")

// pageText lays the pieces of a page out as lines: the highest first, each from
// left to right, with a blank line where there is room for one.
func pageText(pieces []pdf.Text) string {
	slices.SortStableFunc(pieces, func(a, b pdf.Text) int { return cmp.Compare(b.Y, a.Y) })
	var text strings.Builder
	last := math.Inf(1)
	for i := 0; i < len(pieces); {
		k := i + 1
		height := max(pieces[i].FontSize, 1)
		for k < len(pieces) && pieces[i].Y-pieces[k].Y < height*0.4 {
			k++
		}
		row := pieces[i:k]
		slices.SortStableFunc(row, func(a, b pdf.Text) int { return cmp.Compare(a.X, b.X) })
		if last-pieces[i].Y > height*1.7 && !math.IsInf(last, 1) {
			text.WriteString("\n")
		}
		last = pieces[i].Y
		for n, w := range row {
			if n > 0 && w.X > row[n-1].X+row[n-1].W+w.FontSize*0.22 {
				text.WriteString(" ")
			}
			text.WriteString(ligatures.Replace(w.S))
		}
		text.WriteString("\n")
		i = k
	}
	return text.String()
}
