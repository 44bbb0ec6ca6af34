package rulebook

import (
	"slices"
	"strings"

	"fitcheck/core/device"
	y "fitcheck/core/yamlfile"
)

// OfDevice is the situation of a device as its file tells it, with what the
// rulebook says of its model and revision; what is only guessed is not known.
type OfDevice struct {
	*device.Device
	Rules           *Rulebook
	Model, Revision string
}

// Version implements Situation.
func (s OfDevice) Version(component string) (string, bool) {
	f, ok := s.Device.Version(component)
	return f.Value, ok
}

// Companion implements Situation.
func (s OfDevice) Companion(name string) (string, bool) {
	e, ok := s.Companions.Get(name)
	if _, guessed := s.Guessed("companions." + name); !ok || guessed {
		return "", false
	}
	return e.Value.Text, true
}

// StorageFree implements Situation.
func (s OfDevice) StorageFree() (int64, bool) {
	_, guessed := s.Guessed("storage_free")
	return s.Device.StorageFree.Bytes, s.Device.StorageFree.Set() && !guessed
}

// Memory implements Situation.
func (s OfDevice) Memory() (int64, bool) {
	if _, guessed := s.Guessed("memory"); s.Device.Memory.Set() && !guessed {
		return s.Device.Memory.Bytes, true
	}
	if m, ok := s.Rules.FindModel(s.Model); ok {
		if size, ok := s.Rules.MemorySize(&m.Value, s.Revision); ok {
			return size.Bytes, true
		}
	}
	return 0, false
}

// Feature implements Situation.
func (s OfDevice) Feature(name string) Truth {
	return s.listed("features", s.Features, func(t string) bool { return strings.EqualFold(t, name) })
}

// Attached implements Situation.
func (s OfDevice) Attached(model string) Truth {
	return s.listed("attached", s.Device.Attached, func(t string) bool { return s.Rules.CanonicalModel(t) == s.Rules.CanonicalModel(model) })
}

func (s OfDevice) listed(key string, list []y.Text, is func(string) bool) Truth {
	if _, guessed := s.Guessed(key); guessed || len(list) == 0 {
		return Unknown
	}
	return truth(slices.ContainsFunc(list, func(t y.Text) bool { return is(t.Text) }))
}
