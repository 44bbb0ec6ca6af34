// Package layout reads binary headers by descriptions that people write in
// YAML, for makers' own formats that no open standard covers. A layout, once
// checked, is a format like any built-in one: it takes part in sniffing,
// survey, header and match.
package layout

import (
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"fitcheck/core/digest"
	"fitcheck/core/fact"
	y "fitcheck/core/yamlfile"
)

// Layout is one layout file.
type Layout struct {
	File string

	Kind    y.String `yaml:"kind" enum:"layout"`
	Name    y.String `yaml:"name"`
	Title   y.String `yaml:"title"`
	Magic   *Magic   `yaml:"magic"`
	Endian  y.String `yaml:"endian" enum:"big,little"`
	Fields  []Field  `yaml:"fields"`
	Payload *Payload `yaml:"payload"`
	Checks  []Check  `yaml:"checks"`

	magic []byte
	index map[string]int
}

// Magic is what the format is known by.
type Magic struct {
	y.Spot
	At  Place    `yaml:"at" doc:"a number, the name of a field, or end-N"`
	Hex y.String `yaml:"hex" doc:"bytes in hex"`
}

// Field is one field of the header, or a table of them.
type Field struct {
	y.Spot
	Name   y.String        `yaml:"name"`
	At     Place           `yaml:"at" doc:"a number, the name of a field, or end-N"`
	Type   y.String        `yaml:"type"`
	Size   Place           `yaml:"size"`
	Endian y.String        `yaml:"endian" enum:"big,little"`
	Fact   y.String        `yaml:"fact" doc:"what it says of the image: model, board, revisions, version …"`
	Values y.Map[y.String] `yaml:"values" doc:"raw value to its meaning"`
	Bits   y.Map[y.String] `yaml:"bits" doc:"number of a bit to its meaning"`
	Join   y.String        `yaml:"join"`
	Repeat Place           `yaml:"repeat" doc:"how many, a number or a field"`
	Stride Place           `yaml:"stride" doc:"bytes from one to the next"`
	When   y.Map[y.String] `yaml:"when" doc:"only where a field has a value"`

	kind   kind
	values map[uint64]string
	bits   []bit
}

// Payload is what the header stands before.
type Payload struct {
	y.Spot
	At   Place `yaml:"at" doc:"a number, the name of a field, or end-N"`
	Size Place `yaml:"size"`
}

// Check is a checksum that the header carries.
type Check struct {
	y.Spot
	Sum    y.String   `yaml:"sum"`
	Over   Over       `yaml:"over" doc:"header, payload, or [FROM, TO]"`
	Equals y.String   `yaml:"equals" doc:"the field that states the sum"`
	Zeroed []y.String `yaml:"zeroed" doc:"fields taken as zero"`
	Invert bool       `yaml:"invert" doc:"the complement of the result"`
	Init   Place      `yaml:"init"`
	Unit   int        `yaml:"unit"`

	options digest.Options
}

// Place is a number, the name of a field, or a distance from the file's end.
type Place struct {
	y.Spot
	Text   string
	number int64
	field  string
	end    bool // number counts back from the end
}

// ReadScalar reads "12", "0x0c", "header_size", "end" or "end-16".
func (p *Place) ReadScalar(text string, at y.Spot) error {
	*p = Place{Spot: at, Text: text}
	text = strings.TrimSpace(text)
	if n, err := strconv.ParseInt(text, 0, 64); err == nil {
		if n < 0 {
			return fmt.Errorf("%s is below zero; count from the end as end-16", text)
		}
		p.number = n
		return nil
	}
	if text == "end" {
		p.end = true
		return nil
	}
	if rest, ok := strings.CutPrefix(text, "end-"); ok {
		n, err := strconv.ParseInt(rest, 0, 64)
		if err != nil || n <= 0 {
			return fmt.Errorf("%q is no distance from the end; write end-16", text)
		}
		p.end, p.number = true, n
		return nil
	}
	if text == "" || strings.ContainsAny(text, " +-*/") {
		return fmt.Errorf("%q is neither a number, nor the name of a field, nor like end-16", text)
	}
	p.field = text
	return nil
}

// Set tells whether the file gives the place.
func (p Place) Set() bool { return p.Line > 0 }

// Over is the stretch that a checksum is taken over: header, payload, or
// [FROM, TO].
type Over struct {
	y.Spot
	Word string
	Ends []Place
}

// FromScalar reads the words.
func (o *Over) FromScalar(text string, at y.Spot) error {
	o.Spot, o.Word = at, text
	if text != "header" && text != "payload" {
		return fmt.Errorf("write header, payload or [FROM, TO]; %q is none of them", text)
	}
	return nil
}

// List takes the two ends.
func (o *Over) List(at y.Spot) any {
	o.Spot = at
	return &o.Ends
}

type kind struct {
	size   int // bytes of a number; 0 when the field gives its size
	number bool
	signed bool
}

var kinds = map[string]kind{
	"u8": {1, true, false}, "u16": {2, true, false}, "u24": {3, true, false}, "u32": {4, true, false}, "u64": {8, true, false},
	"i8": {1, true, true}, "i16": {2, true, true}, "i24": {3, true, true}, "i32": {4, true, true}, "i64": {8, true, true},
	"text": {}, "bytes": {}, "unix32": {4, true, false}, "packed": {},
}

type bit struct {
	at   int
	name string
}

// Read reads a layout. All that is wrong with it is in the error, of type
// yamlfile.Errors.
func Read(file string, data []byte) (*Layout, error) {
	l := &Layout{File: file, index: map[string]int{}}
	if err := y.Read(file, data, l); err != nil {
		return nil, err
	}
	c := &checker{l: l}
	c.all()
	if len(c.errs) > 0 {
		slices.SortStableFunc(c.errs, func(a, b *y.Error) int { return a.Spot.Line - b.Spot.Line })
		return nil, c.errs
	}
	return l, nil
}

// checker finds where a layout contradicts itself.
type checker struct {
	l    *Layout
	errs y.Errors
}

func (c *checker) fail(at y.Spot, advice, format string, args ...any) {
	c.errs = append(c.errs, &y.Error{File: c.l.File, Spot: y.Spot{Line: max(1, at.Line), Column: max(1, at.Column)}, Message: fmt.Sprintf(format, args...), Advice: advice})
}

func (c *checker) all() {
	l := c.l
	if l.Kind.Text != "layout" {
		c.fail(l.Kind.Spot, "a layout begins with the line kind: layout", "this is not a layout")
		return
	}
	if !l.Name.Set() || strings.ContainsAny(l.Name.Text, " :/") {
		c.fail(l.Name.Spot, "add name: with a short word, such as qmi", "the layout needs a name of one word")
	}
	if e := l.Endian; e.Set() && e.Text != "big" && e.Text != "little" {
		c.fail(e.Spot, "", "endian is big or little, not %q", e.Text)
	}
	c.magic()
	for i := range l.Fields {
		if f := &l.Fields[i]; !f.Name.Set() {
			c.fail(f.Spot, "add name:", "a field needs a name")
		} else if first, twice := l.index[f.Name.Text]; twice {
			c.fail(f.Name.Spot, fmt.Sprintf("the first is in line %d", l.Fields[first].Name.Line), "there are two fields of the name %q", f.Name.Text)
		} else {
			l.index[f.Name.Text] = i
		}
	}
	if len(l.Fields) == 0 {
		c.fail(l.Kind.Spot, "add fields:", "the layout has no fields")
	}
	for i := range l.Fields {
		c.field(&l.Fields[i])
	}
	if p := l.Payload; p != nil {
		if !p.At.Set() {
			c.fail(p.Spot, "add at: with the place where it begins", "the payload needs a place")
		}
		c.place(p.At, "payload")
		c.place(p.Size, "payload")
	}
	for i := range l.Checks {
		c.check(&l.Checks[i])
	}
	c.circles()
}

// maxMagicAt is how far into a file the magic may stand.
const maxMagicAt = 60 << 10

func (c *checker) magic() {
	m := c.l.Magic
	if m == nil {
		c.fail(c.l.Kind.Spot, `add magic: {at: 0, hex: "51 4D 49 31"}`, "the layout needs a magic, or it could be taken for anything")
		return
	}
	b, err := hex.DecodeString(strings.ReplaceAll(m.Hex.Text, " ", ""))
	switch {
	case err != nil || len(b) == 0:
		c.fail(m.Hex.Spot, `write bytes as "51 4D 49 31"`, "the magic %q is not made of hexadecimal bytes", m.Hex.Text)
	case len(b) < 2:
		c.fail(m.Hex.Spot, "take more bytes that are always the same", "a magic of %d byte would be found everywhere", len(b))
	case !m.At.Set() || m.At.field != "":
		c.fail(m.Spot, "write at: 0 or at: end-16", "the magic needs a fixed place")
	case m.At.end && (m.At.number < int64(len(b)) || m.At.number > 4096):
		c.fail(m.At.Spot, "", "the magic has %d bytes, and must begin within 4096 bytes of the end", len(b))
	case !m.At.end && m.At.number > maxMagicAt:
		c.fail(m.At.Spot, "", "the magic stands at %d; at most %d bytes are looked through", m.At.number, maxMagicAt)
	}
	c.l.magic = b
}

func (c *checker) place(p Place, of string) {
	if p.field == "" {
		return
	}
	i, ok := c.l.index[p.field]
	switch {
	case !ok:
		c.fail(p.Spot, "the fields are "+strings.Join(c.names(), ", "), "%s names the field %q, which there is not", of, p.field)
	case !kinds[c.l.Fields[i].Type.Text].number || c.l.Fields[i].Repeat.Set():
		c.fail(p.Spot, "", "%s takes its value from %q, which is not a number", of, p.field)
	}
}

func (c *checker) names() []string {
	var out []string
	for i := range c.l.Fields {
		if name := c.l.Fields[i].Name; name.Set() {
			out = append(out, name.Text)
		}
	}
	return out
}

// In one piece: the rules on a field, one after the other.
func (c *checker) field(f *Field) {
	name := f.Name.Text
	k, ok := kinds[f.Type.Text]
	if !ok {
		c.fail(or(f.Type.Spot, f.Spot), "types are u8 u16 u24 u32 u64, i8 to i64, text, bytes, unix32, packed", "the field %s has no known type (%q)", name, f.Type.Text)
		return
	}
	f.kind = k
	if !f.At.Set() {
		c.fail(f.Spot, "add at:", "the field %s has no place", name)
	}
	c.place(f.At, name)
	c.place(f.Size, name)
	c.place(f.Repeat, name)
	switch {
	case k.size == 0 && !f.Size.Set():
		c.fail(f.Spot, "add size:", "a field of the type %s needs a size", f.Type.Text)
	case k.size > 0 && f.Size.Set() && (f.Size.field != "" || f.Size.end || f.Size.number != int64(k.size)):
		c.fail(f.Size.Spot, "take size: out", "a field of the type %s has %d bytes", f.Type.Text, k.size)
	case f.Size.Set() && f.Size.end:
		c.fail(f.Size.Spot, "", "a size cannot be counted from the end")
	case f.Size.Set() && f.Size.field == "" && (f.Size.number == 0 || f.Size.number > maxField):
		c.fail(f.Size.Spot, "", "a field may have 1 to %d bytes, not %d", maxField, f.Size.number)
	}
	if e := f.Endian; e.Set() && e.Text != "big" && e.Text != "little" {
		c.fail(e.Spot, "", "endian is big or little, not %q", e.Text)
	} else if k.size > 1 && !e.Set() && !c.l.Endian.Set() {
		c.fail(f.Spot, "add endian: big or endian: little to the layout", "the byte order of %s is not said", name)
	}
	if f.Fact.Set() {
		if _, _, ok := lookup(f.Fact.Text); !ok {
			c.fail(f.Fact.Spot, "facts are "+strings.Join(factNames(), ", "), "there is no fact %q", f.Fact.Text)
		}
	}
	if f.Join.Set() && f.Type.Text != "packed" {
		c.fail(f.Join.Spot, "", "join goes with the type packed only")
	}
	c.tables(f)
	if f.Stride.Set() && !f.Repeat.Set() {
		c.fail(f.Stride.Spot, "add repeat:", "stride goes with repeat")
	}
	if size := int64(k.size); f.Stride.Set() && f.Stride.field == "" && f.Stride.number < max(size, map[bool]int64{true: f.Size.number}[f.Size.field == ""]) {
		c.fail(f.Stride.Spot, "", "the entries of %s overlap: they are longer than their stride of %d", name, f.Stride.number)
	}
	if f.Repeat.Set() && (f.Repeat.end || f.Repeat.field == "" && (f.Repeat.number < 1 || f.Repeat.number > maxRepeat)) {
		c.fail(f.Repeat.Spot, "", "repeat takes a number from 1 to %d or a field's name", maxRepeat)
	}
	for _, w := range f.When.Entries {
		if _, ok := c.l.index[w.Key]; !ok {
			c.fail(w.Spot, "the fields are "+strings.Join(c.names(), ", "), "when names the field %q, which there is not", w.Key)
		}
	}
}

func or(a, b y.Spot) y.Spot {
	if a.Line > 0 {
		return a
	}
	return b
}

// tables reads values and bits.
func (c *checker) tables(f *Field) {
	width := f.kind.size * 8
	if len(f.Values.Entries) > 0 {
		f.values = map[uint64]string{}
		for _, e := range f.Values.Entries {
			if !f.kind.number {
				continue // texts compare as they are
			}
			n, err := strconv.ParseUint(strings.ReplaceAll(e.Key, "_", ""), 0, 64)
			switch {
			case err != nil:
				c.fail(e.Spot, "write 12 or 0x0c", "the value %q is not a number", e.Key)
			case width < 64 && n>>width != 0:
				c.fail(e.Spot, "", "the value %s does not fit %d bits", e.Key, width)
			}
			if _, twice := f.values[n]; twice && err == nil {
				c.fail(e.Spot, "", "the value %s stands here a second time", e.Key)
			}
			f.values[n] = e.Value.Text
		}
	}
	for _, e := range f.Bits.Entries {
		n, err := strconv.Atoi(e.Key)
		switch {
		case !f.kind.number || f.kind.signed || len(f.Values.Entries) > 0:
			c.fail(e.Spot, "", "bits go with an unsigned number, and not together with values")
			return
		case err != nil || n < 0 || n >= width:
			c.fail(e.Spot, "", "%s has the bits 0 to %d, and not %s", f.Name.Text, width-1, e.Key)
		}
		f.bits = append(f.bits, bit{n, e.Value.Text})
	}
}

// unit checks of how many bits the words are that a sum adds.
func (c *checker) unit(k *Check) bool {
	if k.Unit != 0 && k.Unit != 8 && k.Unit != 16 && k.Unit != 32 || k.Unit > 8 && !strings.HasPrefix(k.Sum.Text, "sum") {
		c.fail(k.Spot, "", "unit is 8, 16 or 32, and goes with sum8, sum16 and sum32")
		return false
	}
	if width := map[string]int{"sum8": 8, "sum16": 16}[k.Sum.Text]; width > 0 && k.Unit > width {
		c.fail(k.Spot, "", "a %s cannot add words of %d bits", k.Sum.Text, k.Unit)
		return false
	}
	return true
}

func (c *checker) check(k *Check) {
	a := digest.Algorithm(k.Sum.Text)
	if !c.unit(k) {
		return
	}
	k.options = digest.Options{Invert: k.Invert, Unit: k.Unit, Order: order(c.l.Endian.Text)}
	if k.Init.Set() {
		n := uint32(k.Init.number)
		if k.Init.field != "" || k.Init.end || k.Init.number > 0xffffffff {
			c.fail(k.Init.Spot, "", "init is a number of at most 32 bits")
			return
		}
		k.options.Init = &n
	}
	h, err := digest.NewWith(a, k.options)
	if err != nil {
		c.fail(k.Sum.Spot, fmt.Sprintf("sums are %v", digest.Checksums()), "%v", err)
		return
	}
	i, ok := c.l.index[k.Equals.Text]
	if !ok {
		c.fail(or(k.Equals.Spot, k.Spot), "the fields are "+strings.Join(c.names(), ", "), "equals names the field %q, which there is not", k.Equals.Text)
		return
	}
	f := &c.l.Fields[i]
	if size := int64(f.kind.size) + f.Size.number*map[bool]int64{true: 1}[f.kind.size == 0]; f.Size.field != "" || size != int64(h.Size()) || f.Repeat.Set() {
		c.fail(k.Equals.Spot, "", "a %s has %d bytes, and the field %s does not have as many", a, h.Size(), k.Equals.Text)
	}
	for _, z := range k.Zeroed {
		if _, ok := c.l.index[z.Text]; !ok {
			c.fail(z.Spot, "the fields are "+strings.Join(c.names(), ", "), "zeroed names the field %q, which there is not", z.Text)
		}
	}
	c.over(k)
}

// over checks what a checksum is taken over.
func (c *checker) over(k *Check) {
	switch {
	case k.Over.Word == "" && len(k.Over.Ends) != 2:
		c.fail(or(k.Over.Spot, k.Spot), "write over: header, over: payload or over: [FROM, TO]", "it is not said what the checksum is taken over")
	case k.Over.Word == "payload" && c.l.Payload == nil && !c.l.trailer():
		c.fail(k.Over.Spot, "add payload:", "the layout describes no payload")
	}
	for _, e := range k.Over.Ends {
		c.place(e, "over")
	}
}

// circles refuses fields whose places depend on each other.
func (c *checker) circles() {
	if len(c.errs) > 0 {
		return
	}
	state := make([]int, len(c.l.Fields)) // 1: on the way, 2: done
	var visit func(i int) bool
	visit = func(i int) bool {
		switch state[i] {
		case 1:
			return false
		case 2:
			return true
		}
		state[i] = 1
		f := &c.l.Fields[i]
		for _, name := range f.uses() {
			if !visit(c.l.index[name]) {
				c.fail(f.Spot, "", "the place of %s depends on itself", f.Name.Text)
				state[i] = 2
				return len(c.errs) > 0
			}
		}
		state[i] = 2
		return true
	}
	for i := range c.l.Fields {
		visit(i)
	}
}

// uses lists the fields that one's place depends on.
func (f *Field) uses() []string {
	var out []string
	for _, p := range []Place{f.At, f.Size, f.Repeat, f.Stride} {
		if p.field != "" {
			out = append(out, p.field)
		}
	}
	for _, w := range f.When.Entries {
		out = append(out, w.Key)
	}
	return out
}

// trailer tells whether the layout describes the end of a file.
func (l *Layout) trailer() bool { return l.Magic != nil && l.Magic.At.end }

func order(word string) binary.ByteOrder {
	if word == "little" {
		return binary.LittleEndian
	}
	return binary.BigEndian
}

// lookup resolves a fact's name; layouts may give a title, too, which a
// rulebook then reads by pattern.
func lookup(name string) (fact.Name, bool, bool) {
	if name == string(fact.Title) {
		return fact.Title, false, true
	}
	return fact.Lookup(name)
}

func factNames() []string {
	out := append(fact.Names(), string(fact.Title))
	slices.Sort(out)
	return out
}

// Bounds of one field.
const (
	maxField  = 64 << 10
	maxRepeat = 4096
	maxTable  = 1 << 20
)
