package page

import (
	"bytes"
	"cmp"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
)

// Screen writes pages as text: on a terminal, into a pipe, into a file.
type Screen struct {
	Out   io.Writer
	Width int // columns; 0 is unbounded
	Color bool
	// Open are the flags that were given: what they unfold is shown.
	Open []string
	// Kit is how the kit was named on the command line; "" where it was not. Commands that
	// are offered name it, too.
	Kit string

	lines int // written so far
	tight tightness
}

// screenLines is how many lines of a page are seen at once: 40, less the call and the prompt.
const screenLines = 38

// looks are how tones are painted on a terminal with colours.
var looks = map[Tone]text.Colors{
	Strong: {text.Bold}, Faint: {text.Faint}, Good: {text.FgGreen}, Bad: {text.FgRed, text.Bold},
	Doubt: {text.FgYellow}, Info: {text.FgCyan}, Code: {text.FgCyan}, title: {text.Bold, text.Underline}, goodWord: {text.FgGreen, text.Bold}, doubtWord: {text.FgYellow, text.Bold}, infoWord: {text.FgCyan, text.Bold},
}

// Tones that only writers use.
const (
	title Tone = iota + 100
	goodWord
	doubtWord
	infoWord
)

// word is the tone of the word of a verdict.
func word(t Tone) Tone {
	switch t {
	case Good:
		return goodWord
	case Doubt:
		return doubtWord
	case Info:
		return infoWord
	}
	return t
}

// Show writes a page. It is folded as far as it takes to see all of it at once, unless a flag
// unfolds it; what is longer all the same has its verdict once more at the end, where it is
// seen.
func (s *Screen) Show(p *Page) {
	if p.Document {
		s.blocks(p.Blocks)
		return
	}
	lines := p.Lines
	if lines == 0 {
		lines = screenLines
	}
	try := func(tight tightness, open []string) bool {
		var b bytes.Buffer
		part := *s
		part.Out, part.lines, part.tight, part.Open = &limited{b: &b, lines: lines}, 0, tight, open
		part.blocks(p.Blocks)
		if part.lines > lines {
			return false
		}
		s.lines += part.lines
		s.Out.Write(b.Bytes())
		return true
	}
	if p.Roomy != "" && !s.open(p.Roomy) && try(0, append(slices.Clone(s.Open), p.Roomy)) {
		return
	}
	if len(s.Open) == 0 && !p.Unfolded {
		for tight := range tightest + 1 {
			if try(tight, nil) {
				return
			}
		}
		s.tight = tightest
	}
	before := s.lines
	s.blocks(p.Blocks)
	s.tight = 0
	if s.lines-before <= screenLines {
		return
	}
	for _, b := range p.Blocks {
		if t, ok := b.(Title); ok {
			t.About = nil
			s.blank()
			s.title(t)
			return
		}
	}
}

// limited keeps what is written until there are more lines than asked for.
type limited struct {
	b     *bytes.Buffer
	lines int
}

func (l *limited) Write(p []byte) (int, error) {
	if l.lines >= 0 {
		l.b.Write(p)
		l.lines -= bytes.Count(p, []byte{'\n'})
	}
	return len(p), nil
}

func (s *Screen) open(flag string) bool { return slices.Contains(s.Open, flag) }

// blocks writes blocks, with a blank line before each that begins something.
func (s *Screen) blocks(all []Block) { s.within(all, nil) }

// within writes blocks that stand behind another.
func (s *Screen) within(all []Block, last Block) {
	for _, b := range all {
		if f, ok := b.(Fold); ok && !s.open(f.Flag) {
			if len(f.Closed) > 0 {
				s.within(f.Closed, last)
				last = f.Closed[len(f.Closed)-1]
			}
			if f.Silent || f.Line == "" {
				continue
			}
		}
		switch b := b.(type) {
		case Picture:
			continue
		case Bar:
			if b.Picture {
				continue
			}
		case Title, Head, Table, Matrix:
			if !close(last) {
				s.blank()
			}
		}
		if f, ok := b.(Fold); ok && s.open(f.Flag) {
			inside := f.Inside()
			if f.Title != "" && len(f.Closed) == 0 {
				inside = append([]Block{Head{f.Title}}, inside...)
			}
			s.within(inside, last)
		} else {
			s.block(b)
		}
		last = b
	}
}

// close tells a block behind which no blank line is wanted.
func close(b Block) bool {
	switch b.(type) {
	case nil, Head, Gap, Rule:
		return true
	}
	return false
}

func (s *Screen) block(b Block) {
	switch b := b.(type) {
	case Title:
		s.title(b)
	case Head:
		s.text("", 0, title, b.Text)
	case Line:
		s.text("", 0, b.Tone, b.Text)
	case Gap:
		s.blank()
	case Rule:
		n := s.Width
		if n <= 0 || n > 100 {
			n = 100
		}
		s.blank()
		s.text("", 0, Faint, strings.Repeat("=", n))
	case List:
		s.list(b, 2+b.Indent)
	case Table:
		s.table(b)
	case Matrix:
		s.matrix(b)
	case Pre:
		s.pre(b, b.Indent)
	case Bar:
		s.bar(b)
	case Fold: // closed
		s.text("", 0, folded(b.Tone), b.Line)
	}
}

func folded(t Tone) Tone {
	if t == Plain {
		return Faint
	}
	return t
}

// maxAbout is how many lines stand below a title at a glance.
const maxAbout = 12

func (s *Screen) title(t Title) {
	lead, indent := "", 0
	if t.Word != "" {
		lead, indent = s.paint(word(t.Tone), t.Word)+"  ", width(Safe(t.Word))+2
	}
	s.text(lead, indent, Strong, t.Text)
	s.list(List{Items: t.About, Most: maxAbout, Flag: cmp.Or(t.Flag, Why)}, indent)
}

func (s *Screen) paint(t Tone, what string) string {
	what = Safe(what)
	if c := looks[t]; s.Color && len(c) > 0 {
		return c.Sprint(what)
	}
	return what
}

func (s *Screen) blank() { s.raw("") }

// blanks are those at the end of a line, before the escapes that end its colours.
var blanks = regexp.MustCompile(` +((?:\x1b\[[0-9;]*m)+)$`)

// raw writes a line that is painted already.
func (s *Screen) raw(line string) {
	s.lines++
	line = strings.TrimRight(line, " ")
	for blanks.MatchString(line) { // painted ones would wrap on a terminal
		line = blanks.ReplaceAllString(line, "$1")
	}
	fmt.Fprintln(s.Out, line)
}

// text writes a text behind a lead that is painted already; when it wraps, further lines stand
// under the first.
func (s *Screen) text(lead string, indent int, t Tone, what string) {
	for i, l := range s.wrap(Safe(Paste(what, s.Kit)), indent) {
		if i > 0 {
			lead = strings.Repeat(" ", indent)
		}
		s.behind(lead, indent, t, l)
	}
}

// behind writes a line behind a lead. One that is wider than the room, as an address may be,
// stands alone, as far to the right as it fits: so it can be copied.
func (s *Screen) behind(lead string, indent int, t Tone, l string) {
	if over := indent + width(l) - s.Width; s.Width > 0 && over > 0 {
		if strings.TrimSpace(lead) != "" {
			s.raw(lead)
		}
		if over > indent { // where that does not help either, it stays in place
			over = 0
		}
		lead = strings.Repeat(" ", indent-over)
	}
	s.raw(lead + s.paint(t, l))
}

func (s *Screen) wrap(t string, indent int) []string {
	const least = 20
	if s.Width <= 0 || s.Width-indent < least {
		return []string{t}
	}
	return wrap(t, s.Width-indent)
}

// list writes entries that begin at an indent. The short words in front of them stand in
// columns.
func (s *Screen) list(l List, indent int) {
	items := l.Items
	full, most := s.tight.full(l.Full), s.tight.most(l.Most, 1, 2)
	if l.Flag != "" && s.open(l.Flag) {
		full, most = 0, 0
	}
	if most > 0 && (len(items) > most+1 || l.Numbered && len(items) > most) { // one more takes the line that would tell of it
		items = items[:most]
	}
	if l.Numbered {
		items = slices.Clone(items)
		for i := range items {
			mark := Span{Text: fmt.Sprintf("%d.", i+max(1, l.From))}
			if l.Tick {
				mark.Text = fmt.Sprintf("[ ] %2d.", i+max(1, l.From))
			}
			items[i].Marks = append([]Span{mark}, items[i].Marks...)
		}
	}
	widths := markWidths(items)
	for i, it := range items {
		short := full > 0 && i >= full
		if l.Deep != "" && !s.open(l.Deep) || s.tight.bare() || short {
			it.Under, it.Inside = nil, nil
		}
		s.item(it, indent, widths, short)
	}
	if n := len(l.Items) - len(items); n > 0 {
		t := fmt.Sprintf("and %d more", n)
		if l.Flag != "" {
			t += "; " + l.Flag + " shows them"
		}
		s.text(strings.Repeat(" ", indent), indent, Faint, t)
	}
}

// markWidths are the widths of the columns of marks in front of items.
func markWidths(items []Item) []int {
	var widths []int
	for _, it := range items {
		for k, m := range it.Marks {
			if k == len(widths) {
				widths = append(widths, 0)
			}
			widths[k] = max(widths[k], min(maxMark, width(Safe(m.Text))))
		}
	}
	return widths
}

// maxMark is how wide a column of short words may get.
const maxMark = 30

// In one piece: the blocks stand in the order in which they are read.
func (s *Screen) item(it Item, indent int, widths []int, short bool) {
	lead, at, under := strings.Repeat(" ", indent), indent, indent+4
	for k, m := range it.Marks {
		if widths[k] == 0 {
			continue
		}
		gap := 2
		if w := width(Safe(m.Text)); k == 0 && w <= 2 && widths[k] <= 2 { // a sign or a number
			gap = 1
		}
		lead += s.paint(m.Tone, m.Text) + strings.Repeat(" ", max(0, widths[k]-width(Safe(m.Text)))+gap)
		at += max(widths[k], width(Safe(m.Text))) + gap
		if k == 0 {
			under = at
		}
	}
	if most := s.tight.lines(it, short); most > 0 {
		lines := s.wrap(Safe(Paste(it.Text, s.Kit)), at)
		if len(lines) > most {
			lines = s.wrap(Safe(Paste(it.Text, s.Kit)), at+2)[:most]
			lines[most-1] += " …"
		}
		for i, l := range lines {
			if i > 0 {
				lead = strings.Repeat(" ", at)
			}
			s.behind(lead, at, it.Tone, l)
		}
	} else if it.Text != "" || len(it.Marks) > 0 {
		s.text(lead, at, it.Tone, it.Text)
	}
	if len(it.Under) > 0 {
		s.list(List{Items: it.Under}, under)
	}
	for _, b := range it.Inside {
		switch b := b.(type) {
		case Pre:
			s.pre(b, under+b.Indent)
		case List:
			s.list(b, under+b.Indent)
		case Bar:
			b.Indent += under
			if !b.Picture {
				s.bar(b)
			}
		default:
			s.block(b)
		}
	}
}

// gap is what stands between columns of a table.
const gap = 2

// In one piece: the blocks stand in the order in which they are read.
func (s *Screen) table(t Table) {
	t, left := t.within(s.Width)
	rows := t.Rows
	open := t.Flag != "" && s.open(t.Flag)
	if most := s.tight.most(t.Most, 4, 6); most > 0 && len(rows) > most+1 && !open {
		rows = rows[:most]
	}
	widths := s.columns(t, rows)
	w := table.NewWriter()
	st := table.StyleDefault
	st.Options = table.OptionsNoBordersAndSeparators
	st.Box.PaddingLeft, st.Box.PaddingRight = "", strings.Repeat(" ", gap)
	st.Format.Header = text.FormatDefault
	if s.Color {
		st.Color.Header = looks[Faint]
	}
	w.SetStyle(st)
	w.SuppressTrailingSpaces()
	header := table.Row{}
	var columns []table.ColumnConfig
	for i, c := range t.Columns {
		header = append(header, Safe(c.Title))
		if c.Right {
			columns = append(columns, table.ColumnConfig{Number: i + 1, Align: text.AlignRight, AlignHeader: text.AlignRight})
		}
	}
	w.AppendHeader(header)
	for _, r := range rows {
		line := table.Row{}
		for i, c := range r {
			fitting := t.Columns[i].Fitting
			switch {
			case open && fitting == Cut:
				fitting = Wrap
			case s.tight.flat() && fitting == Wrap:
				fitting = Cut
			}
			line = append(line, s.cell(c, fitting, widths[i]))
		}
		w.AppendRow(line)
	}
	w.SetColumnConfigs(columns)
	for line := range strings.SplitSeq(w.Render(), "\n") {
		s.raw(line)
	}
	if len(left) > 0 {
		tail := ""
		if t.Flag != "" {
			tail = "; " + t.Flag + " tells of them"
		}
		s.text("", 0, Faint, "no room for the columns "+strings.Join(left, ", ")+tail)
	}
	if n := len(t.Rows) - len(rows); n > 0 {
		noun := "more"
		if t.Noun != "" {
			noun = "more " + t.Noun
		}
		tail := ""
		if t.Flag != "" {
			tail = "; " + t.Flag + " lists every one"
		}
		s.text("", 0, Faint, fmt.Sprintf("and %d %s%s", n, noun, tail))
	}
}

// least is how far a column is shortened.
const least = 6

// within leaves out the columns on the right for which there is no room even when all are
// shortened, and names them.
func (t Table) within(room int) (_ Table, left []string) {
	total, n := -gap, 0
	for i, c := range t.Columns {
		w := width(Safe(c.Title))
		for _, r := range t.Rows {
			if i < len(r) {
				w = max(w, width(Safe(r[i].Text)))
			}
		}
		if c.Fitting != Keep {
			w = min(w, max(least, width(Safe(c.Title))))
		}
		if total += w + gap; total > room && room > 0 && n > 0 {
			left = append(left, Safe(c.Title))
			continue
		}
		n++
	}
	if len(left) == 0 {
		return t, nil
	}
	t.Columns = t.Columns[:n]
	rows := make([][]Span, len(t.Rows))
	for i, r := range t.Rows {
		rows[i] = r[:min(n, len(r))]
	}
	t.Rows = rows
	return t, left
}

// columns shares the width: those that may be shortened give way, the widest first.
func (s *Screen) columns(t Table, rows [][]Span) []int {
	widths := make([]int, len(t.Columns))
	total := -gap
	for i, c := range t.Columns {
		widths[i] = width(Safe(c.Title))
		for _, r := range rows {
			if i < len(r) {
				widths[i] = max(widths[i], width(Safe(r[i].Text)))
			}
		}
		total += widths[i] + gap
	}
	for s.Width > 0 && total > s.Width {
		widest := -1
		for i, c := range t.Columns {
			if c.Fitting != Keep && widths[i] > max(least, width(c.Title)) && (widest < 0 || widths[i] > widths[widest]) {
				widest = i
			}
		}
		if widest < 0 {
			break
		}
		widths[widest]--
		total--
	}
	return widths
}

func (s *Screen) cell(c Span, f Fitting, room int) string {
	t := Safe(c.Text)
	if width(t) <= room {
		return s.paint(c.Tone, t)
	}
	switch f {
	case Cut, CutFront:
		return s.paint(c.Tone, shorten(t, room, f == CutFront))
	case Wrap:
		lines := wrap(t, room)
		for i, l := range lines {
			lines[i] = s.paint(c.Tone, shorten(l, room, false))
		}
		return strings.Join(lines, "\n")
	}
	return s.paint(c.Tone, t)
}

// marks are how the cells of a matrix look.
var marks = map[Mark]Span{Yes: {"ok", Good}, No: {"X", Bad}, Open: {"?", Doubt}, None: {"–", Faint}}

func (s *Screen) matrix(m Matrix) {
	if len(m.Rows) == 0 {
		return
	}
	m, fine, left := m.within(s.Width)
	rows := m.Rows
	most := s.tight.most(m.Most, 2, 3)
	if most > 0 && len(rows) > most && !s.open(m.Flag) {
		rows = slices.DeleteFunc(slices.Clone(rows), func(r MatrixRow) bool { return !r.open() })
		rows = rows[:min(len(rows), most)]
	}
	t := Table{}
	for _, l := range m.Lead {
		t.Columns = append(t.Columns, Column{Title: l, Fitting: CutFront})
	}
	for _, c := range m.Columns {
		t.Columns = append(t.Columns, Column{Title: c})
	}
	for _, r := range rows {
		var line []Span
		for _, l := range r.Lead {
			line = append(line, Span{Text: l})
		}
		for _, c := range r.Cells {
			line = append(line, marks[c])
		}
		t.Rows = append(t.Rows, line)
	}
	if len(rows) > 0 {
		s.table(t)
	}
	if len(fine) > 0 {
		s.text("", 0, Faint, "ok wherever they apply: "+strings.Join(fine, ", "))
	}
	if len(left) > 0 {
		s.text("", 0, Doubt, "no room for the columns "+strings.Join(left, ", ")+", in which not all is ok")
	}
	if n := len(m.Rows) - len(rows); n > 0 {
		verb := "rows, all ok"
		if len(rows) == most {
			verb = "rows"
		}
		if n == 1 {
			verb = strings.Replace(verb, "rows", "row", 1)
		}
		s.text("", 0, Faint, fmt.Sprintf("and %d more %s; %s shows every one", n, verb, m.Flag))
	}
}

func (r MatrixRow) open() bool { return slices.Contains(r.Cells, No) || slices.Contains(r.Cells, Open) }

// within leaves out columns, as many as it takes to keep to a width: first those in which
// nothing is wrong, then those on the right. It names both.
func (m Matrix) within(room int) (_ Matrix, fine, left []string) {
	lead := 0
	for i, l := range m.Lead {
		w := width(l)
		for _, r := range m.Rows {
			w = max(w, width(Safe(r.Lead[i])))
		}
		lead += min(w, maxLead) + gap
	}
	m.Columns = slices.Clone(m.Columns)
	m.Rows = slices.Clone(m.Rows)
	for room > 0 {
		total := lead - gap
		for _, c := range m.Columns {
			total += width(c) + gap
		}
		if total <= room {
			break
		}
		i := slices.IndexFunc(m.Columns, func(c string) bool {
			at := slices.Index(m.Columns, c)
			return !slices.ContainsFunc(m.Rows, func(r MatrixRow) bool { return r.Cells[at] == No || r.Cells[at] == Open })
		})
		switch {
		case i >= 0:
			fine = append(fine, m.Columns[i])
		case len(m.Columns) > 1:
			i = len(m.Columns) - 1
			left = slices.Insert(left, 0, m.Columns[i])
		default:
			return m, fine, left
		}
		m.Columns = slices.Delete(m.Columns, i, i+1)
		for k := range m.Rows {
			m.Rows[k].Cells = slices.Delete(slices.Clone(m.Rows[k].Cells), i, i+1)
		}
	}
	return m, fine, left
}

// maxLead is how wide the names of rows may get before columns give way to them.
const maxLead = 28

func (s *Screen) pre(p Pre, indent int) {
	lead := strings.Repeat(" ", indent)
	for _, l := range p.Lines {
		var b strings.Builder
		for _, x := range l {
			b.WriteString(s.paint(x.Tone, x.Text))
		}
		s.raw(lead + b.String())
	}
}

// bar draws a strip from the first byte to the last.
func (s *Screen) bar(b Bar) {
	if len(b.Pieces) == 0 {
		return
	}
	cells := 80
	if s.Width > 0 {
		cells = max(20, min(120, s.Width-b.Indent-2))
	}
	strip := make([]Span, 0, cells)
	for i := range int64(cells) {
		n := int64(cells)
		strip = append(strip, b.at(b.Size*i/n, max(b.Size*i/n+1, b.Size*(i+1)/n)))
	}
	var out strings.Builder
	for i := 0; i < len(strip); {
		j := i
		for j < len(strip) && strip[j] == strip[i] {
			j++
		}
		out.WriteString(s.paint(strip[i].Tone, strings.Repeat(strip[i].Text, j-i)))
		i = j
	}
	s.raw(strings.Repeat(" ", b.Indent) + "[" + out.String() + "]")
	if b.Legend != "" {
		s.text(strings.Repeat(" ", b.Indent), b.Indent, Faint, b.Legend)
	}
}

// at is what is shown of a stretch.
func (b Bar) at(from, to int64) Span {
	best := Span{Text: " "}
	rank := len(b.Order) + 1
	for _, p := range b.Pieces {
		if p.From >= to || p.To <= from {
			continue
		}
		if r := strings.Index(b.Order, p.Letter); r < rank {
			best, rank = Span{p.Letter, p.Tone}, r
		}
	}
	return best
}
