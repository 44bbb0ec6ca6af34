// Package page is how an answer is told: one model of a page, and three writers of it, for a
// terminal, for Markdown and for HTML. It knows nothing of firmware and decides nothing.
//
// A page is made once, in full. What does not fit a screen is not left out by who makes the
// page but folded by who writes it: a terminal names the flag that unfolds it, a web page
// holds it closed.
package page

import "html/template"

// Tone is what a piece of text is to the reader; each writer gives it a look.
type Tone int

// The tones.
const (
	Plain  Tone = iota
	Strong      // what is to be read first
	Faint       // what may be skipped
	Good
	Bad
	Doubt
	Info
	Code // what is typed as it stands
)

// The flags that unfold what a terminal folds.
const (
	Why = "-why"
	All = "-all"
)

// Span is a piece of text of one tone.
type Span struct {
	Text string
	Tone Tone
}

// Page is an answer: blocks from top to bottom, the verdict first.
type Page struct {
	// Name is what a file or a window of it is called.
	Name   string
	Blocks []Block
	// Roomy is a flag whose folds are open where all of the page is no longer than a screen.
	Roomy string
	// Document says that it is worked through rather than looked at: it is as long as it is,
	// and its verdict is not repeated below.
	Document bool
	// Unfolded says that it was asked for more than fits a screen: no more is folded for it.
	Unfolded bool
	// Lines is how many lines it takes at most where folding can do that; 0 for a screen.
	Lines int
}

// Add appends blocks.
func (p *Page) Add(all ...Block) { p.Blocks = append(p.Blocks, all...) }

// Picture is the first picture of a page, "" where there is none.
func (p *Page) Picture() string {
	for _, b := range p.Blocks {
		if x, ok := b.(Picture); ok {
			return string(x.Alone)
		}
	}
	return ""
}

// Block is one of the types below.
type Block interface{ block() }

// Title is an answer in one line: a word, and the sentence that it stands for. What it is about
// stands below.
type Title struct {
	Word  string
	Tone  Tone
	Text  string
	About []Item
	// Flag shows all of About where it is long; "" for Why.
	Flag string
}

// Head begins a part of a page.
type Head struct{ Text string }

// Line is a sentence of its own.
type Line struct {
	Text string
	Tone Tone
}

// Gap is a blank line where nothing else makes one.
type Gap struct{}

// Rule divides answers of one page.
type Rule struct{}

// Item is one entry of a list: short words in columns, a text behind them, and what belongs to
// it below.
type Item struct {
	Marks []Span
	Text  string
	Tone  Tone
	Under []Item
	// Inside is what the item rests on, to be looked at when asked for.
	Inside []Block
	// ID names the item for links of the same page.
	ID string
}

// List is entries below each other.
type List struct {
	Items []Item
	// Full is how many are shown with all that belongs to them, 0 for all; Most is how many
	// are shown at all, those beyond Full by one line each. Flag unfolds the rest.
	Full, Most int
	Flag       string
	// Deep is the flag that shows what belongs to the entries; "" for always.
	Deep string
	// Numbered counts the entries, from From on (1 where it is 0); Tick gives them boxes.
	Numbered, Tick bool
	From           int
	// Indent moves all of it to the right.
	Indent int
}

// Fitting says what becomes of a column that the width does not hold.
type Fitting int

// The fittings.
const (
	Keep     Fitting = iota
	Cut              // the end is left out
	CutFront         // the beginning is left out, as of an address
	Wrap             // it takes several lines
)

// Column is the head of a column of a table.
type Column struct {
	Title   string
	Right   bool // numbers
	Fitting Fitting
}

// Table is rows of cells.
type Table struct {
	Columns []Column
	Rows    [][]Span
	// Most is how many rows are shown, 0 for all; Flag unfolds the rest.
	Most int
	Flag string
	// Noun names what a row is where rows are folded; "more" without.
	Noun string
}

// Mark is the cell of a matrix.
type Mark int

// The marks.
const (
	None Mark = iota
	Yes
	No
	Open
)

// MatrixRow is a row of a matrix.
type MatrixRow struct {
	Lead  []string
	Cells []Mark
}

// Matrix is a verdict at a glance: a row a thing, a column a group of questions.
type Matrix struct {
	Lead    []string // titles of the columns that name the row
	Columns []string
	Rows    []MatrixRow
	Most    int // rows; where there are more, those that are all well are folded first
	Flag    string
}

// Pre is lines as they are: bytes, drawings of characters, texts that are cited.
type Pre struct {
	Lines  [][]Span
	Indent int
}

// Piece is a stretch of a bar.
type Piece struct {
	From, To int64
	Letter   string
	Tone     Tone
	Title    string
}

// Bar draws stretches in proportion to their length. Where several share a cell of it, the one
// whose letter stands first in Order is shown.
type Bar struct {
	Size   int64
	Pieces []Piece
	Order  string
	Legend string
	Indent int
	// Picture says that it is drawn where there is room for pictures only.
	Picture bool
}

// Fold is a part that is unfolded by a flag. Line says what it is, and how much.
type Fold struct {
	Line string
	// Title heads it when it is open; "" for none.
	Title string
	Flag  string
	Tone  Tone // Faint where it is Plain
	// Inside makes it, when it is needed. Closed stands in its place while it is folded.
	Inside func() []Block
	Closed []Block
	// Silent folds say nothing while they are closed on a terminal.
	Silent bool
	// Wide folds are open wherever there is more room than on a terminal.
	Wide bool
}

// Picture is drawn where that can be done; on a terminal it is left out.
type Picture struct {
	SVG   template.HTML // as part of a page
	Alone template.HTML // by itself, with a ground of its own
	Alt   string
}

func (Title) block()   {}
func (Head) block()    {}
func (Line) block()    {}
func (Gap) block()     {}
func (Rule) block()    {}
func (List) block()    {}
func (Table) block()   {}
func (Matrix) block()  {}
func (Pre) block()     {}
func (Bar) block()     {}
func (Fold) block()    {}
func (Picture) block() {}
