package rulebook

import (
	"fmt"
	"slices"

	y "fitcheck/core/yamlfile"
)

// Faults are statements that forbid something and can never apply, because they
// name a model, revision, family or component that the rulebook does not know:
// rules that forbid, needs and drops. Whoever wrote them meant something, and
// until they are mended nobody knows what: whatever they may bear on is not
// settled.
func (r *Rulebook) Faults() y.Errors {
	if r == nil {
		return nil
	}
	return r.faults
}

// findFaults marks the statements, and lists them.
func (r *Rulebook) findFaults() {
	w := &warner{r: r}
	fault := func(at y.Text, known []string, what string) string {
		doubt := fmt.Sprintf("it names the %s %s, which the rulebook does not know", what, at.Text)
		w.warn(at.Spot, w.near(at.Text, known), "%s: until that is mended, nothing that it may forbid is settled", doubt)
		return fmt.Sprintf("%s:%d: %s", r.File, at.Line, doubt)
	}
	model := func(t y.Text) (string, bool) {
		if r.knowsModel(t.Text) {
			return "", true
		}
		return fault(t, r.Models.Keys(), "model"), false
	}
	revisions := func(list, models []y.Text) string {
		for _, t := range list {
			if !r.KnowsRevision(models, t.Text) {
				return fault(t, nil, "hardware revision")
			}
		}
		return ""
	}
	for i := range r.Releases {
		rel := &r.Releases[i]
		rel.doubt = revisions(rel.Revisions, rel.Models)
		for _, t := range rel.Drops {
			if doubt, ok := model(t); !ok {
				rel.doubt = doubt
			}
		}
		for k := range rel.Needs {
			n := &rel.Needs[k]
			switch {
			case n.Component.Set() && !w.component(n.Component.Text):
				n.doubt = fault(n.Component, w.components(), "component")
			case n.Attached.Set():
				n.doubt, _ = model(n.Attached)
			}
			if doubt := revisions(n.Revisions, n.Models); doubt != "" {
				n.doubt = doubt
			}
			for _, t := range n.Models {
				if doubt, ok := model(t); !ok {
					n.doubt = doubt
				}
			}
			for _, t := range n.Families {
				if !r.knowsFamily(t.Text) {
					n.doubt = fault(t, r.Families.Keys(), "family")
				}
			}
		}
	}
	if r.Hops != nil {
		for i := range r.Hops.Rules {
			h := &r.Hops.Rules[i]
			if doubt := revisions(h.Revisions, h.Models); doubt != "" {
				h.doubt = doubt
			}
			if h.Allow == nil || *h.Allow {
				continue
			}
			for _, t := range h.Models {
				if doubt, ok := model(t); !ok {
					h.doubt = doubt
				}
			}
			for _, t := range []y.Text{h.FromFamily, h.ToFamily} {
				if t.Set() && !r.knowsFamily(t.Text) {
					h.doubt = fault(t, r.Families.Keys(), "family")
				}
			}
		}
	}
	for i := range r.Recovery {
		revisions(r.Recovery[i].Revisions, r.Recovery[i].Models)
	}
	slices.SortStableFunc(w.found, func(a, b *y.Error) int { return a.Spot.Line - b.Spot.Line })
	r.faults = w.all()
}
