package image

import (
	"bytes"
	"io"
	"strings"

	"fitcheck/core/archive"
	"fitcheck/core/fact"
)

// lookInto reads the headers of what lies inside an image: payloads that are
// inflated first where they are compressed, file systems, trees. The error
// ends the walk; what is wrong with a part is a problem of the image.
func lookInto(set *Set, c *archive.Content, m *Image) error {
	for i := range m.Parts {
		p := &m.Parts[i]
		if p.Opaque || p.Image != nil || p.Size == 0 || m.opened && !p.Starts {
			continue
		}
		inner, err := c.Part(p.Name, p.Offset, p.Size)
		if err != nil {
			if archive.Fatal(err) {
				return err
			}
			continue // that it reaches past the end, the header's reader says
		}
		if err := p.enter(set, inner, m); err != nil {
			return err
		}
	}
	if listsFiles(m.Format) && !m.listed {
		if err := readContents(m.Format, c, m); err != nil {
			return err
		}
	}
	m.promote()
	return nil
}

// enter reads what a part holds. m is the image around it.
func (p *Part) enter(set *Set, c *archive.Content, m *Image) error {
	head, err := Head(c)
	if err != nil {
		return err
	}
	method := archive.CompressionOf(head)
	if method == "" {
		return p.read(set, c, head, m)
	}
	covered := m.covered(fact.Source{Offset: p.Offset, Size: p.Size})
	key, ok, err := set.key(p, c, covered)
	if err != nil {
		return err
	}
	if ok {
		if known := set.known.find(key); known != nil {
			return known.tell(p, m, c)
		}
	}
	told := &Image{}
	if err := p.inflate(set, c, head, method, covered, told); err != nil {
		return err
	}
	if ok {
		set.known.keep(key, p, told, c.Address())
	}
	m.take(told)
	return nil
}

// inflate reads what a part holds that is a compressed stream. What is wrong with it is told of m. covered: a
// checksum of the image around it covers the part.
func (p *Part) inflate(set *Set, c *archive.Content, head []byte, method archive.Compression, covered bool, m *Image) (err error) {
	if p.Guess {
		c = c.Guess()
	}
	p.Packed = p.Size
	var inner *archive.Content
	var wrong *archive.Wrong
	if covered {
		inner, wrong, err = c.Inflate(method)
	} else { // only then it matters where the stream ends
		inner, p.Packed, wrong, err = c.InflateCounted(method)
	}
	if err != nil {
		return err
	}
	defer inner.Close()
	if wrong == nil {
		p.Check, p.checked = streamCheck(method, head, p.Packed)
	}
	if wrong != nil {
		cut := strings.HasPrefix(wrong.What, "truncated")
		nothing := inner == nil || inner.Size() == 0
		switch {
		case p.Guess, method == archive.LzmaStream && (nothing || !cut && inner.Size() < archive.HeadSize):
			return nil // it may be something else: nothing vouches for its being a stream
		case wrong.Class == archive.Unreadable:
			m.unread("its part %s, compressed by %s, cannot be looked into: %s", p.Name, method, wrong.What)
		case nothing:
			m.Problem("its part %s begins like %s, and cannot be inflated: %s", p.Name, method, strings.TrimPrefix(wrong.What, "damaged: "))
		default:
			m.Problem("its part %s is compressed by %s and damaged: %s", p.Name, method, strings.TrimPrefix(wrong.What, "damaged: "))
		}
		if nothing {
			return nil
		}
	}
	p.Compression, p.Unpacked = string(method), inner.Size()
	if head, err = Head(inner); err != nil {
		return err
	}
	if archive.CompressionOf(head) != "" { // compressed twice
		nested := &Image{Format: string(method)}
		nested.Part("content", 0, inner.Size()).Starts = p.Starts
		if err := lookInto(set, inner, nested); err != nil {
			return err
		}
		p.Kind, p.Image = string(method), nested
		return nil
	}
	return p.read(set, inner, head, m)
}

// isWhole tells a part of a format that begins where the image around it does, and is of its format: it would be
// entered for ever.
func (p *Part) isWhole(f *Format, around *Image) bool {
	return f != nil && f.Name == around.Format && p.Offset == 0 && !p.Scattered
}

// notStarted tells what nothing can be started of. Bytes that could be read as a text are
// one only where they have lines.
func notStarted(kind string, head []byte) bool {
	if kind != text.Name {
		return notFirmware[kind]
	}
	const longestLine = 1 << 10
	return bytes.IndexByte(head[:min(len(head), longestLine)], '\n') >= 0
}

func kindTitle(set *Set, kind string) string {
	switch kind {
	case "blank":
		return "FF in every byte"
	case "zeros":
		return "zero in every byte"
	}
	title := kind
	if f := set.ByName(kind); f != nil {
		title = f.Title
	}
	if strings.HasPrefix(title, "HTML") || strings.HasPrefix(title, "XML") {
		return "an " + title
	}
	return "a " + title
}

// Head reads the first bytes of a content, as many as a format is told by.
func Head(c *archive.Content) ([]byte, error) {
	head := make([]byte, min(c.Size(), archive.HeadSize))
	n, err := c.ReadAt(head, 0)
	if err != nil && err != io.EOF {
		return nil, err
	}
	return head[:n], nil
}

// read reads the header of a part's content, and whatever lies inside that.
func (p *Part) read(set *Set, c *archive.Content, head []byte, around *Image) error {
	f := set.Sniff(head)
	p.Kind = f.name()
	if p.isWhole(f, around) {
		around.Problem("its part %s is said to begin where it begins itself", p.Name)
		return nil
	}
	var m *Image
	if f != nil && f.Read != nil {
		var err error
		if m, err = readAll(f, c); err != nil {
			return err
		}
		m.listed = p.Scattered // the rest of it is not here
		if err := lookInto(set, c, m); err != nil {
			return err
		}
	}
	var b banner
	if f == nil || f.Firmware {
		var n nature
		n.begin(head)
		if _, err := io.Copy(io.MultiWriter(&b, &n), c.Reader(0, c.Size())); err != nil {
			return err
		}
		if kind := n.uniform(); f == nil && kind != "" && c.Size() > 0 {
			p.Kind = kind
		}
	}
	if p.Starts && notStarted(p.Kind, head) {
		around.Problem("not firmware: its part %s, which is to be started, is %s", p.Name, kindTitle(set, p.Kind))
	}
	if m == nil && len(b.found) > 0 {
		m = &Image{Format: p.Kind}
	}
	if m != nil {
		b.tell(m)
		if p.Scattered {
			m.Extent = 0
		}
		if err := m.findBehind(set, c); err != nil {
			return err
		}
		m.finish(c)
		p.Image = m
	}
	return nil
}

// promote takes over, where an image does not say itself which architecture
// or boards it is for, what its parts say with one voice. Such a fact is
// protected when a checksum of the image covers the part.
func (m *Image) promote() {
	for _, n := range []fact.Name{fact.Arch, fact.Board} {
		if _, said := m.First(n); said || len(m.Configs) > 0 {
			continue
		}
		var found []fact.Fact
		agree := true
		for _, p := range m.Parts {
			if p.Image == nil {
				continue
			}
			var of []fact.Fact
			for _, f := range p.Image.Facts {
				if f.About == n {
					f.Protected = f.Protected || m.covered(fact.Source{Offset: p.Offset, Size: p.Size})
					of = append(of, f)
				}
			}
			if len(of) == 0 {
				continue
			}
			agree = agree && (found == nil || fact.Values(of) == fact.Values(found))
			found = of
		}
		if agree {
			m.Facts = append(m.Facts, found...)
		}
	}
}
