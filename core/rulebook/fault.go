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
	w := &faults{warner{r: r}}
	for i := range r.Releases {
		w.release(&r.Releases[i])
	}
	if r.Hops != nil {
		for i := range r.Hops.Rules {
			w.hop(&r.Hops.Rules[i])
		}
	}
	for i := range r.Recovery {
		w.revisions(r.Recovery[i].Revisions, r.Recovery[i].Models)
	}
	slices.SortStableFunc(w.found, func(a, b *y.Error) int { return a.Spot.Line - b.Spot.Line })
	r.faults = w.all()
}

// faults finds names that the rulebook does not know where something rests on them. What each of its methods
// returns is the doubt, in words; "" for none.
type faults struct{ warner }

func (w *faults) fault(at y.String, known []string, what string) string {
	doubt := fmt.Sprintf("it names the %s %s, which the rulebook does not know", what, at.Text)
	w.warn(at.Spot, w.near(at.Text, known), "%s: until that is mended, nothing that it may forbid is settled", doubt)
	return fmt.Sprintf("%s:%d: %s", w.r.File, at.Line, doubt)
}

// models tells of all that are not known, and returns the last doubt.
func (w *faults) models(list ...y.String) (doubt string) {
	for _, t := range list {
		if !w.r.knowsModel(t.Text) {
			doubt = w.fault(t, w.r.Models.Keys(), "model")
		}
	}
	return doubt
}

func (w *faults) families(list ...y.String) (doubt string) {
	for _, t := range list {
		if t.Set() && !w.r.knowsFamily(t.Text) {
			doubt = w.fault(t, w.r.Families.Keys(), "family")
		}
	}
	return doubt
}

func (w *faults) revisions(list, models []y.String) string {
	for _, t := range list {
		if !w.r.KnowsRevision(models, t.Text) {
			return w.fault(t, nil, "hardware revision")
		}
	}
	return ""
}

func (w *faults) release(rel *Release) {
	rel.doubt = w.revisions(rel.Revisions, rel.Models)
	if doubt := w.models(rel.Drops...); doubt != "" {
		rel.doubt = doubt
	}
	for k := range rel.Needs {
		n := &rel.Needs[k]
		switch {
		case n.Component.Set() && !w.component(n.Component.Text):
			n.doubt = w.fault(n.Component, w.components(), "component")
		case n.Attached.Set():
			n.doubt = w.models(n.Attached)
		}
		for _, doubt := range []string{w.revisions(n.Revisions, n.Models), w.models(n.Models...), w.families(n.Families...)} {
			if doubt != "" {
				n.doubt = doubt
			}
		}
	}
}

func (w *faults) hop(h *HopRule) {
	if doubt := w.revisions(h.Revisions, h.Models); doubt != "" {
		h.doubt = doubt
	}
	if h.Allow == nil || *h.Allow {
		return
	}
	for _, doubt := range []string{w.models(h.Models...), w.families(h.FromFamily, h.ToFamily)} {
		if doubt != "" {
			h.doubt = doubt
		}
	}
}
