package plan

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"github.com/maruel/natural"

	"fitcheck/core/archive"
	"fitcheck/core/device"
	"fitcheck/core/digest"
	"fitcheck/core/fit"
	"fitcheck/core/rulebook"
	"fitcheck/core/survey"
)

// Serving is one file that a server must offer, as it must offer it.
type Serving struct {
	Name    string // relative to the server's folder, with "/"
	Address string // of the item, or of the package where it is served whole
	Package string // path of the package
	Whole   bool
	Size    int64
	Digests digest.Set
	For     []Use
	// Fixed: the device asks for it under this very name.
	Fixed bool
}

// Use is what a file is for.
type Use struct {
	Device, Member     string
	Release, Component string
	Slot               string
	Hop                int // of the device's path, from 1
}

// Files lists the files of a step that the device fetches: the images that it
// installs, or the package where that must stay whole.
//
// In one piece: from what is chosen for a member to what is served of it.
func (s *Step) Files(hop int, deviceName string, v *fit.Verdict, rules Rules) []Serving {
	var out []Serving
	for _, m := range v.Members {
		main := "main"
		var box *device.Device
		for _, b := range s.Before.All() {
			if b.Name.Text == m.Name {
				box = b
				main = rules(b.Model.Text).Main(s.FamilyOf(m.Name))
			}
		}
		for _, c := range m.Chosen {
			if s.BootOnly && c.Component != "boot" || !s.BootOnly && c.Component != main && !s.Changes(m.Name, c.Component) {
				continue
			}
			use := Use{Device: deviceName, Member: m.Name, Release: s.Release, Component: c.Component, Slot: c.Slot, Hop: hop}
			f, ok := s.serve(c.Item)
			if !ok {
				continue
			}
			how, rb := rulebook.Install{}, (*rulebook.Rulebook)(nil)
			if box != nil {
				rb = rules(box.Model.Text)
				how = s.fetches(box, rules)
			}
			if p := s.packageOf(c.Item); p != nil && box != nil {
				more, all := s.laidOut(p, box, how, rb)
				for _, o := range more {
					if o.Address == f.Address || o.Whole {
						f = o
						continue
					}
					o.For = []Use{{Device: deviceName, Member: m.Name, Release: s.Release, Hop: hop}}
					out = withUse(out, o)
				}
				if !all && how.Root.Set() && !f.Whole {
					f.Name, f.Fixed = how.Under(path.Base(f.Name)), true
				}
			}
			if i := slices.IndexFunc(out, func(o Serving) bool { return o.Address == f.Address }); i >= 0 {
				out[i].For = append(out[i].For, use)
				continue
			}
			f.For = []Use{use}
			out = append(out, f)
		}
	}
	return out
}

// withUse adds a file, or what it is for where it is there already.
func withUse(out []Serving, f Serving) []Serving {
	if i := slices.IndexFunc(out, func(o Serving) bool { return o.Package == f.Package && o.Address == f.Address }); i >= 0 {
		for _, u := range f.For {
			if !slices.Contains(out[i].For, u) {
				out[i].For = append(out[i].For, u)
			}
		}
		return out
	}
	return append(out, f)
}

// packageOf finds the package that holds an item.
func (s *Step) packageOf(address string) *survey.Survey {
	for _, p := range s.Packages {
		if p.Find(address) != nil {
			return p
		}
	}
	return nil
}

// serve is the file that is offered for an item.
func (s *Step) serve(address string) (Serving, bool) {
	for _, p := range s.Packages {
		it := p.Find(address)
		if it == nil {
			continue
		}
		root := p.Root()
		if p.Entry != nil && p.Entry.Handling.Text == "whole" && !p.Folder && root != nil {
			it = root
		}
		f := Serving{Address: it.Address, Package: p.Path, Whole: it == root && !p.Folder, Size: it.Size, Digests: it.Digests}
		f.Name = path.Base(it.Name)
		if f.Whole {
			f.Name = path.Base(p.Name)
		} else if rel := relative(p, it); rel != "" {
			f.Name = path.Join(folderFor(p), rel)
		}
		return f, true
	}
	return Serving{}, false
}

// relative is the place of an item as the manifest that lists it names it, else
// its place in its archive.
func relative(p *survey.Survey, it *survey.Item) string {
	level, in := "", it.Address
	if i := strings.LastIndex(it.Address, "::"); i >= 0 {
		level, in = it.Address[:i], it.Address[i+2:]
	}
	for _, w := range it.Witnesses {
		i := strings.LastIndex(w.Name, "::")
		if i < 0 || w.Name[:i] != level {
			continue
		}
		if m := p.Find(w.Name); m == nil || m.Role != "manifest" {
			continue
		}
		dir := path.Dir(w.Name[i+2:])
		if dir == "." {
			return in
		}
		if rest, ok := strings.CutPrefix(in, dir+"/"); ok {
			return rest
		}
	}
	// An archive whose files all lie in one folder is served from within it.
	if top, rest, ok := strings.Cut(in, "/"); ok {
		for _, o := range p.Items {
			if inner, ok := strings.CutPrefix(o.Address, level+"::"); ok && !strings.Contains(inner, "::") && !strings.HasPrefix(inner, top+"/") {
				return in
			}
		}
		return rest
	}
	return in
}

// folderFor is the folder that a package's files are served from: its name
// without the endings of archives.
func folderFor(p *survey.Survey) string {
	name := path.Base(p.Name)
	for {
		stem := name
		for _, ext := range []string{".zip", ".tar", ".tgz", ".gz", ".xz", ".bz2", ".zst", ".lz4", ".lzma", ".7z", ".cpio"} {
			if n := len(name) - len(ext); n > 0 && strings.EqualFold(name[n:], ext) {
				stem = name[:n]
				break
			}
		}
		if stem == name {
			return name
		}
		name = stem
	}
}

// Arrange gives every file a name that the transfer carries and that no other
// file has: with the folder of its package, else without, else the bare name.
// transfer finds the rule for a device; nil where there is none.
func Arrange(files []Serving, transfer func(device string) *rulebook.Transfer) ([]Serving, error) {
	var out []Serving
	taken := map[string]string{} // name to digest
	for _, f := range files {
		if i := slices.IndexFunc(out, func(o Serving) bool { return o.Package == f.Package && o.Address == f.Address }); i >= 0 {
			out[i].For = append(out[i].For, f.For...)
			continue
		}
		_, rel, nested := strings.Cut(f.Name, "/")
		names := []string{f.Name}
		if nested && !f.Fixed {
			names = append(names, rel, path.Base(rel))
		}
		f.Name = ""
		var why error
		for _, n := range names {
			if why = carries(n, f, transfer); why == nil {
				if had, ok := taken[n]; ok && had != f.Digests.Of(digest.SHA256) {
					why = fmt.Errorf("%s would be the name of two different files", n)
					continue
				}
				f.Name = n
				break
			}
		}
		if f.Name == "" {
			return nil, why
		}
		taken[f.Name] = f.Digests.Of(digest.SHA256)
		out = append(out, f)
	}
	slices.SortStableFunc(out, func(a, b Serving) int { return natural.Compare(a.Name, b.Name) })
	return out, nil
}

// carries tells whether the transfer of every device that a file is for carries
// it under a name.
func carries(name string, f Serving, transfer func(device string) *rulebook.Transfer) error {
	if _, why := archive.SafeName(name); why != "" {
		return fmt.Errorf("%s: %s; no server can offer it", name, why)
	}
	if strings.EqualFold(name, SumsName) || strings.EqualFold(name, RecordName) {
		return fmt.Errorf("%s is a name that stage uses itself; rename the package", name)
	}
	for _, u := range f.For {
		t := transfer(u.Device)
		if t == nil {
			continue
		}
		switch t.Obstacle(name, 0) { // its size is judged with the image
		case rulebook.NameTooLong:
			return fmt.Errorf("the name %s has %d characters, and %s takes at most %d", name, len(name), u.Device, t.LongestName)
		case rulebook.StrangeName:
			return fmt.Errorf("the name %q holds characters that cannot be transferred", name)
		}
	}
	return nil
}
