package layout

import (
	"bytes"
	"cmp"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"fitcheck/core/digest"
	"fitcheck/core/fact"
	"fitcheck/core/image"
)

// Prefix begins the names of formats that are layouts.
const Prefix = "layout:"

// Format is the layout as a format. Its checksums, where it has any over the
// header or payload, let the deep scan trust a find.
func (l *Layout) Format() *image.Format {
	f := &image.Format{Name: Prefix + l.Name.Text, Title: l.Title.Text, Firmware: true, Rank: 20, Read: l.read, Deep: len(l.Checks) > 0 && !l.trailer()}
	if f.Title == "" {
		f.Title = "header of the layout " + l.Name.Text
	}
	if l.trailer() {
		f.SniffEnd = func(tail []byte) bool {
			at := len(tail) - int(l.Magic.At.number)
			return at >= 0 && bytes.HasPrefix(tail[at:], l.magic)
		}
	} else {
		f.Magics = []image.Magic{{At: int(l.Magic.At.number), Bytes: string(l.magic)}}
	}
	return f
}

// reader is the reading of one file by a layout.
type reader struct {
	l    *Layout
	s    *image.Source
	m    *image.Image
	got  []*value
	busy []bool
}

// value is a field as read; several where it repeats.
type value struct {
	absent  bool // by its condition
	at      int64
	size    int64
	stride  int64
	raw     [][]byte
	numbers []uint64
}

// errBeyond stops a reading that must wait for more of the file.
var errBeyond = errors.New("beyond the first bytes")

func (l *Layout) read(s *image.Source) (*image.Image, error) {
	r := &reader{l: l, s: s, m: &image.Image{}, got: make([]*value, len(l.Fields)), busy: make([]bool, len(l.Fields))}
	needsEnd := l.trailer() || slices.ContainsFunc(l.Fields, func(f Field) bool { return f.At.end })
	if needsEnd && !s.Whole() {
		return r.m, nil
	}
	var first error
	for i := range l.Fields {
		if _, err := r.field(i); err != nil && first == nil {
			first = err
		}
	}
	if first != nil {
		r.show()
		return r.m, first
	}
	r.show()
	return r.m, r.sums()
}

func (r *reader) at(p Place) (int64, error) {
	switch {
	case p.field != "":
		v, err := r.field(r.l.index[p.field])
		if err != nil {
			return 0, err
		}
		if v.absent || len(v.numbers) == 0 {
			return 0, fmt.Errorf("the field %s, which others depend on, is not there", p.field)
		}
		if v.numbers[0] > 1<<48 {
			return 0, fmt.Errorf("the field %s is %d, which is beyond any file", p.field, v.numbers[0])
		}
		return int64(v.numbers[0]), nil
	case p.end && r.s.Size() < p.number:
		return 0, fmt.Errorf("truncated: its trailer has %d bytes, and there are %d", p.number, r.s.Size())
	case p.end:
		return r.s.Size() - p.number, nil
	}
	return p.number, nil
}

// field reads a field, and first those on which its place depends; a layout
// has no circles.
//
// In one piece: the types of a field, one after the other.
func (r *reader) field(i int) (*value, error) {
	if r.got[i] != nil {
		return r.got[i], nil
	}
	f := &r.l.Fields[i]
	v := &value{}
	there, err := r.when(f)
	if err != nil {
		return nil, err
	}
	if !there {
		v.absent = true
		r.got[i] = v
		return v, nil
	}
	if v.at, err = r.at(f.At); err != nil {
		return nil, err
	}
	v.size = int64(f.kind.size)
	if v.size == 0 {
		if v.size, err = r.at(f.Size); err != nil {
			return nil, err
		}
	}
	if v.size > maxField {
		return nil, fmt.Errorf("the field %s is said to have %d bytes; at most %d are read", f.Name.Text, v.size, maxField)
	}
	n := int64(1)
	v.stride = v.size
	if f.Repeat.Set() {
		if n, err = r.at(f.Repeat); err != nil {
			return nil, err
		}
		if f.Stride.Set() {
			if v.stride, err = r.at(f.Stride); err != nil {
				return nil, err
			}
		}
		if n > maxRepeat || v.stride < v.size || n*v.size > maxTable {
			return nil, fmt.Errorf("the table %s is said to have %d entries of %d bytes, %d apart", f.Name.Text, n, v.size, v.stride)
		}
	}
	for k := range n {
		b, err := r.s.Bytes(v.at+k*v.stride, int(v.size))
		if err != nil {
			return nil, fmt.Errorf("the field %s: %w", f.Name.Text, err)
		}
		v.raw = append(v.raw, b)
		if f.kind.number {
			v.numbers = append(v.numbers, f.number(r.l, b))
		}
	}
	r.got[i] = v
	return v, nil
}

// number reads an unsigned number of 1 to 8 bytes; signed ones come extended
// to 64 bits.
func (f *Field) number(l *Layout, b []byte) uint64 {
	word := f.Endian.Text
	if word == "" {
		word = l.Endian.Text
	}
	var n uint64
	for i := range b {
		c := b[i]
		if word == "little" {
			c = b[len(b)-1-i]
		}
		n = n<<8 | uint64(c)
	}
	if f.kind.signed {
		shift := 64 - 8*len(b)
		n = uint64(int64(n<<shift) >> shift)
	}
	return n
}

// when tells whether a field's condition holds.
func (r *reader) when(f *Field) (bool, error) {
	for _, w := range f.When.Entries {
		i := r.l.index[w.Key]
		v, err := r.field(i)
		if err != nil {
			return false, err
		}
		if v.absent || len(v.raw) == 0 {
			return false, nil
		}
		shown, _, _ := r.l.Fields[i].meaning(v, 0)
		same := strings.EqualFold(shown, w.Value.Text) || slices.Contains(r.l.Fields[i].facts(v, 0), w.Value.Text)
		if n, err := strconv.ParseUint(w.Value.Text, 0, 64); err == nil && len(v.numbers) > 0 {
			same = same || v.numbers[0] == n
		}
		if !same {
			return false, nil
		}
	}
	return true, nil
}

// meaning gives the value of one entry as shown, and what it means.
func (f *Field) meaning(v *value, k int) (shown, meaning string, known bool) {
	raw := v.raw[k]
	switch f.Type.Text {
	case "text":
		shown = text(raw)
		if e, ok := f.Values.Get(shown); ok {
			return shown, e.Value.Text, true
		}
		return shown, "", true
	case "bytes":
		return hex.EncodeToString(raw[:min(32, len(raw))]), "", true
	case "packed":
		var parts []string
		for _, c := range raw {
			parts = append(parts, strconv.Itoa(int(c)))
		}
		join := "."
		if f.Join.Set() {
			join = f.Join.Text
		}
		return strings.Join(parts, join), "", true
	case "unix32":
		return fmt.Sprint(v.numbers[k]), time.Unix(int64(v.numbers[k]), 0).UTC().Format(time.RFC3339), true
	}
	n := v.numbers[k]
	shown = fmt.Sprint(n)
	if f.kind.signed {
		shown = fmt.Sprint(int64(n))
	}
	switch {
	case len(f.bits) > 0:
		return fmt.Sprintf("0x%0*x", 2*len(raw), n), strings.Join(f.facts(v, k), ", "), true
	case f.values != nil:
		hexed := fmt.Sprintf("0x%0*x", 2*len(raw), n&mask(len(raw)))
		if name, ok := f.values[n&mask(len(raw))]; ok {
			return hexed, name, true
		}
		return hexed, "not known to the layout", false
	}
	return shown, "", true
}

func mask(size int) uint64 {
	if size >= 8 {
		return ^uint64(0)
	}
	return 1<<(8*size) - 1
}

// facts lists the texts that one entry of a field stands for.
func (f *Field) facts(v *value, k int) []string {
	if len(f.bits) > 0 {
		var out []string
		left := v.numbers[k]
		for _, b := range f.bits {
			if v.numbers[k]>>b.at&1 != 0 {
				out = append(out, b.name)
			}
			left &^= 1 << b.at
		}
		for at := range 64 {
			if left>>at&1 != 0 {
				out = append(out, fmt.Sprintf("bit %d", at))
			}
		}
		return out
	}
	shown, meaning, known := f.meaning(v, k)
	switch {
	case f.Type.Text == "unix32" && v.numbers[k] == 0:
		return nil
	case f.Type.Text == "unix32":
		return []string{meaning}
	case known && meaning != "":
		return []string{meaning}
	}
	return []string{shown}
}

// text stops at the first NUL and trims blanks.
func text(b []byte) string {
	b, _, _ = bytes.Cut(b, []byte{0})
	return strings.TrimSpace(strings.ToValidUTF8(string(b), "\uFFFD"))
}

// show notes all fields that were read, and their facts.
func (r *reader) show() {
	r.magic()
	for i, v := range r.got {
		if v == nil || v.absent {
			continue
		}
		f := &r.l.Fields[i]
		for k := range v.raw {
			name := f.Name.Text
			if f.Repeat.Set() {
				name = fmt.Sprintf("%s[%d]", name, k)
			}
			at := v.at + int64(k)*v.stride
			shown, meaning, _ := f.meaning(v, k)
			r.m.Fields = append(r.m.Fields, image.Field{Name: name, Offset: at, Raw: v.raw[k], Value: shown, Meaning: meaning})
			if f.Fact.Set() {
				r.fact(f, v, k, at)
			}
		}
	}
	slices.SortStableFunc(r.m.Fields, func(a, b image.Field) int {
		switch {
		case a.Offset < b.Offset:
			return -1
		case a.Offset > b.Offset:
			return 1
		}
		return 0
	})
}

// magic shows the magic as a field, where the layout has none in its place.
func (r *reader) magic() {
	at := r.l.Magic.At.number
	if r.l.trailer() {
		at = r.s.Size() - at
	}
	for _, v := range r.got {
		if v != nil && !v.absent && v.at == at {
			return
		}
	}
	if b, err := r.s.Bytes(at, len(r.l.magic)); err == nil {
		r.m.Fields = append(r.m.Fields, image.Field{Name: "magic", Offset: at, Raw: b, Value: hex.EncodeToString(b), Meaning: r.l.Title.Text})
	}
}

func (r *reader) fact(f *Field, v *value, k int, at int64) {
	about, list, _ := lookup(f.Fact.Text)
	for _, t := range f.facts(v, k) {
		values := []string{t}
		if list && f.Type.Text == "text" {
			values = fact.Split(about, t)
		}
		for _, value := range values {
			if value != "" {
				r.m.Facts = append(r.m.Facts, fact.Fact{About: about, Value: value, Source: fact.Source{Kind: fact.Header, Offset: at, Size: v.size}})
			}
		}
	}
}

// bounds are the first bytes of header and payload, and those after them.
func (r *reader) bounds() (header, payload digest.Stretch, err error) {
	if r.l.trailer() {
		// The trailer begins where the first of its fields does, or the magic.
		start := r.s.Size() - r.l.Magic.At.number
		for i, v := range r.got {
			if v != nil && !v.absent && r.l.Fields[i].At.end {
				start = min(start, v.at)
			}
		}
		header, payload = digest.Stretch{From: start, To: r.s.Size()}, digest.Stretch{To: start}
	} else {
		end := r.l.Magic.At.number + int64(len(r.l.magic))
		for i, v := range r.got {
			if v != nil && !v.absent && !r.l.Fields[i].At.end && len(v.raw) > 0 {
				end = max(end, v.at+int64(len(v.raw)-1)*v.stride+v.size)
			}
		}
		header = digest.Stretch{To: end}
	}
	p := r.l.Payload
	if p == nil {
		return header, payload, nil
	}
	if payload.From, err = r.at(p.At); err != nil {
		return header, payload, err
	}
	switch {
	case p.Size.Set():
		size, err := r.at(p.Size)
		if err != nil {
			return header, payload, err
		}
		payload.To = payload.From + size
	case r.l.trailer():
	case r.s.Size() < 0 && !r.s.Whole():
		return header, payload, errBeyond
	default:
		payload.To = max(payload.From, r.s.Size())
	}
	if !r.l.trailer() {
		header.To = payload.From
	}
	return header, payload, nil
}

// sums asks for the checksums, and notes where header and payload end.
func (r *reader) sums() error {
	header, payload, err := r.bounds()
	if err == errBeyond {
		return nil
	}
	if err != nil {
		return err
	}
	m := r.m
	m.Extent = max(header.To, payload.To)
	if r.l.trailer() && r.l.Payload == nil || r.l.Payload != nil {
		if payload.To > payload.From {
			m.Parts = append(m.Parts, image.Part{Name: "payload", Offset: payload.From, Size: payload.To - payload.From, Starts: true})
		} else {
			m.Problems = append(m.Problems, "its header announces a payload of no bytes")
		}
	}
	for i := range r.l.Checks {
		k := &r.l.Checks[i]
		over, what := header, "header"
		switch {
		case k.Over.Word == "payload":
			over, what = payload, "payload"
		case len(k.Over.Ends) == 2:
			what = ""
			if over.From, err = r.at(k.Over.Ends[0]); err == nil {
				over.To, err = r.at(k.Over.Ends[1])
			}
			if err != nil {
				return err
			}
		}
		if over.To < over.From {
			return fmt.Errorf("its %s is taken over 0x%x up to 0x%x, which makes no sense", k.Sum.Text, over.From, over.To)
		}
		stated := r.got[r.l.index[k.Equals.Text]]
		if stated == nil || stated.absent {
			continue
		}
		sum := image.Sum{What: strings.TrimSpace(what + " " + k.Sum.Text), At: stated.at, Want: hex.EncodeToString(stated.raw[0]),
			Partial: digest.Partial{Algorithm: digest.Algorithm(k.Sum.Text), Options: k.options, Over: over}}
		if f := &r.l.Fields[r.l.index[k.Equals.Text]]; f.kind.number {
			sum.Want = fmt.Sprintf("%0*x", 2*f.kind.size, stated.numbers[0]&mask(f.kind.size))
		}
		for _, z := range k.Zeroed { // in the order of the file, whatever that of the layout is
			if v := r.got[r.l.index[z.Text]]; v != nil && !v.absent {
				sum.Zeroed = append(sum.Zeroed, digest.Stretch{From: v.at, To: v.at + int64(len(v.raw)-1)*v.stride + v.size})
			}
		}
		slices.SortFunc(sum.Zeroed, func(a, b digest.Stretch) int { return cmp.Compare(a.From, b.From) })
		m.Sums = append(m.Sums, sum)
	}
	return nil
}
