package rulebook

import (
	y "fitcheck/core/yamlfile"
)

// Truth is whether something holds, as far as is known.
type Truth int

// What can be known of a condition.
const (
	Unknown Truth = iota
	Holds
	Fails
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
	Feature(name string) Truth
	Attached(model string) Truth
}

// Met tells whether a need holds in a situation.
func (n *Need) Met(r *Rulebook, s Situation) Truth {
	within := func(text string, known bool, component string, ours bool) Truth {
		if !known {
			return Unknown
		}
		scheme := r.Scheme(component)
		if !ours { // companions are not of this line: natural order
			scheme = nil
		}
		v, err := scheme.Parse(text)
		if err != nil {
			return Unknown
		}
		return truth(n.Range.Contains(v))
	}
	enough := func(have int64, known bool, want y.Size) Truth {
		if !known {
			return Unknown
		}
		return truth(have >= want.Bytes)
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

func truth(b bool) Truth {
	if b {
		return Holds
	}
	return Fails
}

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

// DropsAny names the first of some attached models that the release no longer
// supports.
func (rel *Release) DropsAny(r *Rulebook, attached []y.Text) (model, rule y.Text, found bool) {
	for _, a := range attached {
		for _, d := range rel.Drops {
			if r.CanonicalModel(a.Text) == r.CanonicalModel(d.Text) {
				return a, d, true
			}
		}
	}
	return y.Text{}, y.Text{}, false
}

// Entitled tells whether a release is covered by an entitlement; one that is
// not set covers all.
func (rel *Release) Entitled(until y.Date) Truth {
	switch {
	case !until.Set():
		return Holds
	case !rel.Date.Set():
		return Unknown
	}
	return truth(!rel.Date.Day.After(until.Day))
}
