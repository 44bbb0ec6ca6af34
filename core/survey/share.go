package survey

import (
	"cmp"
	"path"
	"slices"
	"strings"

	"fitcheck/core/archive"
	"fitcheck/core/digest"
	"fitcheck/core/fact"
	"fitcheck/core/image"
)

// Share implements archive.Sharer: what an item, and what lies in it, was found to be is taken over
// by one of equal content. It declines where the other name or place makes a difference.
func (c *collector) Share(it, of *archive.Item) (int64, bool) {
	c.mu.Lock()
	found, reports := slices.Clone(c.led[of]), c.reportsIn(of)
	c.mu.Unlock()
	kept := c.seen.snapshot(of)
	if kept != nil {
		found, reports = slices.Clone(kept.items), kept.reports
	}
	slices.SortFunc(found, func(a, b *Item) int { return cmp.Compare(len(a.Address), len(b.Address)) })
	m := &move{c: c, addresses: map[string]string{of.Address: it.Address}}
	var copies []*Item
	for _, o := range found {
		a := it
		if o.Item != of {
			a = m.child(it, of, o.Item)
		}
		copied, ok := m.item(a, o)
		if !ok || kept != nil && !c.digested(copied) {
			return 0, false
		}
		copies = append(copies, copied)
	}
	if kept != nil && len(copies) > 0 {
		c.seen.taken.Add(1)
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, p := range reports {
		p.Item = m.rename(p.Item)
		c.reports = append(c.reports, p)
	}
	for _, o := range copies {
		c.take(o)
	}
	return int64(len(copies)), len(copies) > 0
}

// reportsIn lists what was reported of things in an item. The lock is held.
func (c *collector) reportsIn(it *archive.Item) []archive.Problem {
	var out []archive.Problem
	for _, p := range c.reports {
		if strings.HasPrefix(p.Item, it.Address+"::") {
			out = append(out, p)
		}
	}
	return out
}

// take adds an item. The lock is held.
func (c *collector) take(it *Item) {
	c.items = append(c.items, it)
	for _, l := range it.Leaders() {
		if c.led == nil {
			c.led = map[*archive.Item][]*Item{}
		}
		c.led[l] = append(c.led[l], it)
	}
}

// move renames what lies under one item to lie under another.
type move struct {
	c         *collector
	addresses map[string]string // of items, to their new ones
}

// rename gives the new address of an item, or of a file in one.
func (m *move) rename(address string) string {
	for end := len(address); end > 0; end = strings.LastIndex(address[:end], "::") {
		if to, ok := m.addresses[address[:end]]; ok {
			return to + address[end:]
		}
	}
	return address
}

// child makes the item that lies in the new one as o lies in the old one.
func (m *move) child(it, of, o *archive.Item) *archive.Item {
	around := m.rename(strings.TrimSuffix(o.Address, "::"+o.Name))
	name := around
	if i := strings.LastIndex(around, "::"); i >= 0 {
		name = around[i+2:]
	}
	return o.Under(it, of, around, name)
}

// item makes what the old item was found to be into what the new one is.
func (m *move) item(a *archive.Item, o *Item) (*Item, bool) {
	m.addresses[o.Address] = a.Address
	if !alikeNamed(m.c.options.Formats, a, o.Item) || m.c.wantsText(a, o.sniffed, o.listed) != (o.text != nil) {
		return nil, false
	}
	for _, f := range o.shown {
		if m.c.named(a.Address+"::"+f.path) != f.promoted {
			return nil, false
		}
	}
	if o.tooMany {
		return nil, false
	}
	return o.under(a, m.rename), true
}

// digested tells whether those digests are known of an item taken over that would be computed of it here.
func (c *collector) digested(it *Item) bool {
	want := digest.NewMulti(c.digests.of(it.Item, it.sniffed)...).Sums()
	return len(want) == len(it.Digests) && !slices.ContainsFunc(want, func(s digest.Sum) bool { return it.Digests.Of(s.Algorithm) == "" })
}

// under is what the item was found to be, at another place. They share nothing that is changed later.
func (it *Item) under(a *archive.Item, rename func(string) string) *Item {
	out := *it
	out.Item, out.coverage = a, &coverage{}
	out.Digests = slices.Clip(it.Digests)
	out.Problems = slices.Clone(it.Problems)
	for i := range out.Problems {
		out.Problems[i].Item = rename(out.Problems[i].Item)
	}
	out.Image, out.Contents = it.Image.Moved(rename), it.Contents.Moved(rename)
	out.Map = slices.Clone(it.Map)
	for i := range out.Map {
		out.Map[i].Image = out.Map[i].Image.Moved(rename)
	}
	out.Witnesses = nil
	if out.Image != nil {
		out.Witnesses = []fact.Witness{{Kind: fact.Header, Name: out.Image.Format, Claims: out.Image.Claims()}}
	}
	return &out
}

// alikeNamed tells whether two names of one content lead to the same findings.
func alikeNamed(formats *image.Set, a, b *archive.Item) bool {
	_, one := archive.SafeName(a.Name)
	_, other := archive.SafeName(b.Name)
	if one != "" || other != "" || a.Recoded || b.Recoded || a.Twin != b.Twin || image.IsVersionFile(a.Name) != image.IsVersionFile(b.Name) {
		return false
	}
	x, y := strings.ToLower(path.Ext(a.Name)), strings.ToLower(path.Ext(b.Name))
	return x == y || len(formats.OfSuffix(x)) == 0 && len(formats.OfSuffix(y)) == 0 && x != ".exe" && y != ".exe"
}

// shownFile is a file of a file system, and whether it was made an item.
type shownFile struct {
	path     string
	promoted bool
}

// maxShown is of how many files of one file system it is kept whether they were made items.
const maxShown = 50_000
