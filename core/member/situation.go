package member

import (
	"strings"

	"fitcheck/core/truth"
)

// Situation is the device as a need is held against it: as it is now, with the
// versions of some components as they will be.
type Situation struct {
	*Member
	// Versions are those of components that are not as the device file says; ""
	// is not known.
	Versions map[string]string
}

// Version implements rulebook.Situation.
func (s Situation) Version(component string) (string, bool) {
	if v, ok := s.Versions[component]; ok {
		return v, v != ""
	}
	v := s.Installed(component)
	return v.First(), v.Known()
}

// Companion implements rulebook.Situation.
func (s Situation) Companion(name string) (string, bool) {
	v := s.Member.Companion(name)
	return v.First(), v.Known()
}

// StorageFree implements rulebook.Situation.
func (s Situation) StorageFree() (int64, bool) {
	n, v := s.Member.StorageFree()
	return n, v.Known()
}

// Memory implements rulebook.Situation. Where device file and rulebook contradict
// each other, it is the smaller, so that what holds by it holds by both; what does
// not is not known.
func (s Situation) Memory() (int64, bool) {
	n, v := s.Member.Memory()
	return n, v.Known()
}

// Feature implements rulebook.Situation.
func (s Situation) Feature(name string) truth.Truth {
	v := s.Value("feature")
	if !v.Known() {
		return truth.Unknown
	}
	for _, f := range v.Facts {
		if strings.EqualFold(f.Value, name) {
			return truth.Yes
		}
	}
	return truth.No
}

// Attached implements rulebook.Situation.
func (s Situation) Attached(model string) truth.Truth {
	v := s.Member.Attached()
	if !v.Known() {
		return truth.Unknown
	}
	t := truth.No
	for _, f := range v.Facts {
		t = t.Or(s.Rules.SameModel(f.Value, model))
	}
	return t
}
