// Package compare tells what differs between two packages, or between a package and what a
// device runs. It says what is there and judges nothing.
package compare

import (
	"path"
	"slices"
	"strings"

	"fitcheck/core/archive"
	"fitcheck/core/device"
	"fitcheck/core/digest"
	"fitcheck/core/fact"
	"fitcheck/core/survey"
)

// Result is what differs between two sides, A and B.
type Result struct {
	A, B       string // their names
	Release    Pair   // versions that the sides stand for as a whole
	Components []Component
	// Models, Revisions, Archs and Boards are what the sides say they are for.
	Models, Revisions, Archs, Boards Sets
	Items                            []Item
}

// Pair is one text of each side; "" where a side says none.
type Pair struct{ A, B string }

// Component is what each side has for one component.
type Component struct {
	Name string
	A, B string // versions
	// Same: the images are the same to the byte. It is only said where both were read.
	Same, Compared bool
}

// Sets is what only A names, only B, and both.
type Sets struct{ OnlyA, OnlyB, Both []string }

// Differ tells whether one side names something that the other does not.
func (s Sets) Differ() bool { return len(s.OnlyA)+len(s.OnlyB) > 0 }

// Change is how an item of B stands to one of A.
type Change string

// The changes.
const (
	Same    Change = "same"
	Changed Change = "changed"
	Added   Change = "added"
	Removed Change = "removed"
	Moved   Change = "moved" // the same content under another name
)

// Item is one path of either side.
type Item struct {
	Path   string // in B, or in A of what was removed
	From   string // path in A of what was moved
	Kind   string
	A, B   Content
	Change Change
}

// Content is one side's content; without SHA256 where it was not read.
type Content struct {
	SHA256 string
	Size   int64
}

// Packages compares two packages.
func Packages(a, b *survey.Survey) *Result {
	r := &Result{A: a.Name, B: b.Name, Release: Pair{first(a.NameClaim.About(fact.Version)), first(b.NameClaim.About(fact.Version))}}
	ca, cb := components(a), components(b)
	r.components(ca, cb)
	r.Models = sets(said(a, fact.Model), said(b, fact.Model))
	r.Revisions = sets(said(a, fact.Revision), said(b, fact.Revision))
	r.Archs = sets(said(a, fact.Arch), said(b, fact.Arch))
	r.Boards = sets(said(a, fact.Board), said(b, fact.Board))
	r.Items = items(a, b)
	return r
}

// Device compares what a device, or a member of it, runs with a package.
func Device(name string, u *device.Unit, p *survey.Survey) *Result {
	r := &Result{A: name, B: p.Name, Release: Pair{B: first(p.NameClaim.About(fact.Version))}}
	runs := map[string]*part{}
	var order []string
	for _, e := range u.Installed.Entries {
		runs[e.Key] = &part{versions: []string{e.Value.Text}}
		order = append(order, e.Key)
	}
	r.components(parts{order, runs}, components(p))
	one := func(t string) []string {
		if t == "" {
			return nil
		}
		return []string{t}
	}
	var boards []string
	for _, b := range u.Boards {
		boards = append(boards, b.Text)
	}
	r.Models = sets(one(u.Model.Text), said(p, fact.Model))
	r.Revisions = sets(one(u.Revision.Text), said(p, fact.Revision))
	r.Archs = sets(one(u.Arch.Text), said(p, fact.Arch))
	r.Boards = sets(boards, said(p, fact.Board))
	return r
}

// part is what a side has for one component.
type part struct{ versions, sums []string }

type parts struct {
	order []string
	by    map[string]*part
}

// components gathers the images of a package by what they are for.
func components(s *survey.Survey) parts {
	out := parts{by: map[string]*part{}}
	for _, it := range s.Items {
		name := it.Component()
		if name == "" || it.Part || it.Within {
			continue
		}
		p := out.by[name]
		if p == nil {
			p = &part{}
			out.by[name] = p
			out.order = append(out.order, name)
		}
		if v := version(it); v != "" && !slices.Contains(p.versions, v) {
			p.versions = append(p.versions, v)
		}
		p.sums = append(p.sums, it.Digests.Of(digest.SHA256))
	}
	for _, p := range out.by {
		slices.Sort(p.sums)
	}
	return out
}

// version is an item's, by the first source that says it.
func version(it *survey.Item) string {
	for _, kind := range []fact.Kind{fact.Manifest, fact.Header, fact.FileName} {
		if w, ok := it.Witness(kind); ok {
			if v := first(w.About(fact.Version)); v != "" {
				return v
			}
		}
	}
	return ""
}

func (r *Result) components(a, b parts) {
	names := slices.Clone(a.order)
	for _, n := range b.order {
		if !slices.Contains(names, n) {
			names = append(names, n)
		}
	}
	for _, n := range names {
		c := Component{Name: n}
		pa, pb := a.by[n], b.by[n]
		if pa != nil {
			c.A = strings.Join(pa.versions, ", ")
		}
		if pb != nil {
			c.B = strings.Join(pb.versions, ", ")
		}
		if pa != nil && pb != nil && len(pa.sums) > 0 && len(pb.sums) > 0 && !slices.Contains(pa.sums, "") && !slices.Contains(pb.sums, "") {
			c.Compared, c.Same = true, slices.Equal(pa.sums, pb.sums)
		}
		r.Components = append(r.Components, c)
	}
}

func first(all []fact.Fact) string {
	if len(all) == 0 {
		return ""
	}
	return all[0].Value
}

// said lists what the firmware of a package says of one thing, by all sources but the name.
func said(s *survey.Survey, n fact.Name) []string {
	var out []string
	for _, it := range s.Items {
		if it.Part || it.Within {
			continue
		}
		for _, w := range it.Witnesses {
			for _, f := range w.About(n) {
				if !f.Open && !slices.Contains(out, f.Value) {
					out = append(out, f.Value)
				}
			}
		}
	}
	return out
}

func sets(a, b []string) Sets {
	var s Sets
	fold := func(all []string, v string) bool {
		return slices.ContainsFunc(all, func(o string) bool { return strings.EqualFold(o, v) })
	}
	for _, v := range a {
		if fold(b, v) {
			s.Both = append(s.Both, v)
		} else {
			s.OnlyA = append(s.OnlyA, v)
		}
	}
	for _, v := range b {
		if !fold(a, v) {
			s.OnlyB = append(s.OnlyB, v)
		}
	}
	for _, l := range [][]string{s.OnlyA, s.OnlyB, s.Both} {
		slices.Sort(l)
	}
	return s
}

// entry is a line of one side: an item, or a file that was listed of a file system.
type entry struct {
	path, kind string
	Content
}

// list lists a side by path within the package. One folder that all of it lies in is left
// out: it most often bears the version.
func list(s *survey.Survey) []entry {
	var out []entry
	for _, it := range s.Items {
		rest, ok := strings.CutPrefix(it.Address, s.Name+"::")
		if !ok {
			if it.Container != archive.None {
				continue // the package itself: its members say more
			}
			rest = ""
		}
		out = append(out, entry{clean(rest), it.Kind, Content{it.Digests.Of(digest.SHA256), it.Size}})
		if it.Contents == nil {
			continue
		}
		for _, f := range it.Contents.List {
			if f.Mode.IsRegular() && s.Find(it.Address+"::"+f.Path) == nil {
				out = append(out, entry{strings.TrimPrefix(clean(rest)+"::"+f.Path, "::"), f.Kind, Content{f.SHA256, f.Size}})
			}
		}
	}
	folder := ""
	for i, e := range out {
		top, _, deeper := strings.Cut(e.path, "/")
		if !deeper || strings.Contains(top, "::") || i > 0 && top != folder {
			return out
		}
		folder = top
	}
	for i := range out {
		out[i].path = strings.TrimPrefix(out[i].path, folder+"/")
	}
	return out
}

func clean(address string) string {
	levels := strings.Split(address, "::")
	for i, l := range levels {
		if l != "" {
			levels[i] = path.Clean(l)
		}
	}
	return strings.Join(levels, "::")
}

func items(a, b *survey.Survey) []Item {
	la, lb := list(a), list(b)
	inA, inB := map[string]entry{}, map[string]bool{}
	for _, e := range la {
		inA[e.path] = e
	}
	for _, e := range lb {
		inB[e.path] = true
	}
	gone := map[string][]entry{} // of A by content, that B has under no such path
	for _, e := range la {
		if !inB[e.path] && e.SHA256 != "" && e.Size > 0 {
			gone[e.SHA256] = append(gone[e.SHA256], e)
		}
	}
	var out []Item
	moved := map[string]bool{}
	for _, e := range lb {
		it := Item{Path: e.path, Kind: e.kind, B: e.Content, Change: Added}
		if o, ok := inA[e.path]; ok {
			it.A, it.Change = o.Content, Changed
			if o.SHA256 != "" && o.SHA256 == e.SHA256 {
				it.Change = Same
			}
		} else if from := gone[e.SHA256]; len(from) > 0 && e.SHA256 != "" {
			it.A, it.From, it.Change = from[0].Content, from[0].path, Moved
			gone[e.SHA256] = from[1:]
			moved[from[0].path] = true
		}
		out = append(out, it)
	}
	for _, e := range la {
		if !inB[e.path] && !moved[e.path] {
			out = append(out, Item{Path: e.path, Kind: e.kind, A: e.Content, Change: Removed})
		}
	}
	return out
}
