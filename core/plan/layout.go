package plan

import (
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/device"
	"fitcheck/core/fact"
	"fitcheck/core/rulebook"
	"fitcheck/core/survey"
)

// What a device asks a server for decides what lies there: the images that it installs, the
// package as it was downloaded, a manifest with every image that it gives to the model, or all
// that the package holds.

// fetches is what a box asks for at a step, and where.
func (s *Step) fetches(b *device.Device, rules Rules) rulebook.Install {
	return rules(b.Model.Text).Installing(s.FamilyOf(b.Name.Text))
}

// laidOut are the files of a package that a box asks for beside the image itself; ok is false
// where it asks for images alone.
func (s *Step) laidOut(p *survey.Survey, b *device.Device, how rulebook.Install, rb *rulebook.Rulebook) (out []Serving, ok bool) {
	add := func(it *survey.Item) {
		name := inside(p, it)
		if name == "" || slices.ContainsFunc(out, func(o Serving) bool { return o.Address == it.Address }) {
			return
		}
		out = append(out, Serving{Name: how.Under(name), Address: it.Address, Package: p.Path, Size: it.Size, Digests: it.Digests, Fixed: true})
	}
	switch how.Fetches.Text {
	case rulebook.FetchesManifest:
		for _, it := range p.Items {
			if it.Role == "manifest" || it.Role == "checksums" || it.Role == "signature" || listedFor(it, b, rb) {
				add(it)
			}
		}
		return out, true
	case rulebook.FetchesTree:
		for _, it := range p.Items {
			add(it)
		}
		return out, true
	case rulebook.FetchesPackage:
		if root := p.Root(); root != nil && !p.Folder {
			return []Serving{{Name: how.Under(p.Name), Address: root.Address, Package: p.Path, Whole: true, Size: root.Size, Digests: root.Digests, Fixed: true}}, true
		}
	}
	return nil, false
}

// inside is the name that an item has in its package; "" for the package itself, and for what
// lies in a nested archive or in an image, which no device asks for.
func inside(p *survey.Survey, it *survey.Item) string {
	rest, ok := strings.CutPrefix(it.Address, p.Name+"::")
	if !ok || strings.Contains(rest, "::") || it.Part || it.Within {
		return ""
	}
	return rest
}

// listedFor tells whether a manifest lists an item for the model of a box, whatever the
// revision: the device picks its own.
func listedFor(it *survey.Item, b *device.Device, rb *rulebook.Rulebook) bool {
	for _, w := range it.Witnesses {
		if w.Kind != fact.Manifest {
			continue
		}
		for _, claim := range w.Claims {
			models := claim.About(fact.Model)
			if len(models) == 0 { // for all of them
				return true
			}
			for _, m := range models {
				if rb.CanonicalModel(m.Value) == rb.CanonicalModel(b.Model.Text) {
					return true
				}
			}
		}
	}
	return false
}

// Walk asks for the files as the devices would, and says what one of them would not find.
func Walk(targets []*Target, files []Serving) []string {
	var out []string
	lies := map[string]bool{}
	for _, f := range files {
		lies[f.Package+"\x00"+f.Address] = true
	}
	for _, t := range targets {
		for i := range t.Steps {
			s := &t.Steps[i]
			for _, b := range s.only().All() {
				how := s.fetches(b, t.Rules)
				if how.Fetches.Text != rulebook.FetchesManifest {
					continue
				}
				for _, p := range s.Packages {
					manifest := false
					for _, it := range p.Items {
						manifest = manifest || it.Role == "manifest"
						if listedFor(it, b, t.Rules(b.Model.Text)) && inside(p, it) != "" && !lies[p.Path+"\x00"+it.Address] {
							out = append(out, fmt.Sprintf("%s would ask for %s, and it is not laid out", b.Name.Text, how.Under(inside(p, it))))
						}
					}
					if !manifest {
						out = append(out, fmt.Sprintf("%s would ask for the manifest, and %s holds none", b.Name.Text, p.Name))
					}
				}
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}
