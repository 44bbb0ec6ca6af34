package kit

import (
	"slices"
	"strings"

	"fitcheck/core/rulebook"
)

// Certified collects what the kit's rulebooks say under the name of a certified set. A
// name that none has gives a set without entries.
func (k *Kit) Certified(name string) *rulebook.CertifiedSet {
	set := &rulebook.CertifiedSet{Name: name}
	for _, rb := range k.Rulebooks {
		for i := range rb.Certified {
			c := &rb.Certified[i]
			if !slices.Contains(set.Known, c.Name.Text) {
				set.Known = append(set.Known, c.Name.Text)
			}
			if !strings.EqualFold(c.Name.Text, name) {
				continue
			}
			set.Name = c.Name.Text
			for n := range c.Versions {
				set.Entries = append(set.Entries, rulebook.CertifiedEntry{In: rb, CertifiedVersion: &c.Versions[n], Document: rb.Document(c.Source)})
			}
		}
	}
	slices.Sort(set.Known)
	return set
}
