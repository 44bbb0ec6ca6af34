// Package truth is whether something holds, as far as is known: one type in
// place of pairs of bools, of which one is easily forgotten.
package truth

// Truth is yes, no, or not known. The zero value is not known, so that what
// nobody looked at never passes for an answer.
type Truth int8

// The three values.
const (
	Unknown Truth = iota
	Yes
	No
)

// Of is the truth of what is known.
func Of(b bool) Truth {
	if b {
		return Yes
	}
	return No
}

// And holds when both do; it fails when one does, whatever the other is.
func (t Truth) And(u Truth) Truth {
	switch {
	case t == No || u == No:
		return No
	case t == Unknown || u == Unknown:
		return Unknown
	}
	return Yes
}

// Or holds when one does; it fails when both do.
func (t Truth) Or(u Truth) Truth { return t.Not().And(u.Not()).Not() }

// Not turns yes and no round; what is not known stays so.
func (t Truth) Not() Truth {
	switch t {
	case Yes:
		return No
	case No:
		return Yes
	}
	return Unknown
}

// String is for messages of tests.
func (t Truth) String() string { return [...]string{"not known", "yes", "no"}[t] }
