package rulebook

import (
	"iter"
	"slices"
	"strings"

	"fitcheck/core/truth"
	y "fitcheck/core/yamlfile"
)

// Situation is what needs are held against: a device as it is, or as it would
// be at some point of a path.
type Situation interface {
	// Version is that of an installed component.
	Version(component string) (text string, known bool)
	// Companion is the version of a system that is tied to the device.
	Companion(name string) (text string, known bool)
	StorageFree() (bytes int64, known bool)
	Memory() (bytes int64, known bool)
	// Feature and Attached tell whether the device has a feature, or something
	// of a model attached.
	Feature(name string) truth.Truth
	Attached(model string) truth.Truth
}

// Met tells whether a need holds in a situation. One that names what the
// rulebook does not know is never known to hold.
func (n *Need) Met(r *Rulebook, s Situation) truth.Truth {
	if n.doubt != "" {
		return truth.Unknown
	}
	within := func(text string, known bool, component string, ours bool) truth.Truth {
		if !known {
			return truth.Unknown
		}
		scheme := r.Scheme(component)
		if !ours { // companions are not of this line: natural order
			scheme = nil
		}
		v, err := scheme.Parse(text)
		if err != nil {
			return truth.Unknown
		}
		return n.Range.Holds(v)
	}
	enough := func(have int64, known bool, want y.Size) truth.Truth {
		if !known {
			return truth.Unknown
		}
		return truth.Of(have >= want.Bytes)
	}
	switch {
	case n.Component.Set():
		text, known := s.Version(n.Component.Text)
		return within(text, known, n.Component.Text, true)
	case n.Companion.Set():
		text, known := s.Companion(n.Companion.Text)
		return within(text, known, "", false)
	case n.StorageFree.Set():
		have, known := s.StorageFree()
		return enough(have, known, n.StorageFree)
	case n.Memory.Set():
		have, known := s.Memory()
		return enough(have, known, n.Memory)
	case n.Attached.Set():
		return s.Attached(n.Attached.Text)
	}
	return s.Feature(n.Feature.Text)
}

// NeedsOf goes through the needs that are asked of a device: those without a scope, and those
// in whose scope it is. Where its revision is not known, what may be asked of it is.
func (rel *Release) NeedsOf(r *Rulebook, family, model, revision string) iter.Seq[*Need] {
	return func(yield func(*Need) bool) {
		for i := range rel.Needs {
			if n := &rel.Needs[i]; n.asks(r, family, model, revision) && !yield(n) {
				return
			}
		}
	}
}

// asks tells whether a device is in the scope of a need.
func (n *Need) asks(r *Rulebook, family, model, revision string) bool {
	switch {
	case n.doubt != "": // who is meant is not known, either
		return true
	case len(n.Families) > 0 && !slices.ContainsFunc(n.Families, func(t y.String) bool { return strings.EqualFold(t.Text, family) }):
		return false
	case len(n.Models) > 0 && !r.names(n.Models, model):
		return false
	}
	return len(n.Revisions) == 0 || revision == "" || r.holdsRevision(n.Revisions, model, revision) != truth.No
}

// Doubt says what the need names that the rulebook does not know; "" for
// nothing.
func (n *Need) Doubt() string { return n.doubt }

// Text says what is needed: "boot >=3.2.0".
func (n *Need) Text() string {
	switch {
	case n.Component.Set():
		return n.Component.Text + " " + n.Within.Text
	case n.Companion.Set():
		return n.Companion.Text + " " + n.Within.Text
	case n.StorageFree.Set():
		return y.FormatSize(n.StorageFree.Bytes) + " of free storage"
	case n.Memory.Set():
		return y.FormatSize(n.Memory.Bytes) + " of memory"
	case n.Attached.Set():
		return n.Attached.Text + " attached"
	}
	return "the feature " + n.Feature.Text
}

// Dropping tells whether the release no longer supports something attached, and by
// which of its drops. It is not known when the text is no known model and begins
// like one that is dropped.
func (rel *Release) Dropping(r *Rulebook, attached string) (truth.Truth, y.String) {
	doubt, by := truth.No, y.String{}
	for _, d := range rel.Drops {
		switch r.SameModel(attached, d.Text) {
		case truth.Yes:
			return truth.Yes, d
		case truth.Unknown:
			doubt, by = truth.Unknown, d
		}
	}
	return doubt, by
}

// SameModel tells whether a text names a model. It is not known for a text that
// is no known model and begins like a spelling of that one, or the other way
// round.
func (r *Rulebook) SameModel(text, model string) truth.Truth {
	if r.CanonicalModel(text) == r.CanonicalModel(model) {
		return truth.Yes
	}
	if _, known := r.FindModel(text); known {
		return truth.No
	}
	spellings := []string{model}
	if e, ok := r.FindModel(model); ok {
		spellings = append(spellings, e.Key)
		for _, t := range e.Value.Also {
			spellings = append(spellings, t.Text)
		}
	}
	text = strings.ToLower(strings.TrimSpace(text))
	for _, s := range spellings {
		if s = strings.ToLower(strings.TrimSpace(s)); strings.HasPrefix(text, s) || text != "" && strings.HasPrefix(s, text) {
			return truth.Unknown
		}
	}
	return truth.No
}

// Entitled tells whether a release is covered by an entitlement; one that is
// not set covers all.
func (rel *Release) Entitled(until y.Date) truth.Truth {
	switch {
	case !until.Set():
		return truth.Yes
	case !rel.Date.Set():
		return truth.Unknown
	}
	return truth.Of(!rel.Date.Day.After(until.Day))
}
