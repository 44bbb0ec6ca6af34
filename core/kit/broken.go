package kit

import (
	"bytes"
	"fmt"
	"strings"

	"fitcheck/core/rulebook"
)

// Broken is a rulebook that cannot be used.
type Broken struct {
	File string // as it is cited
	Err  error  // what is wrong with it
	text []byte // nil where it could not be read
}

// Note says in one line that it was left out, why, and how to see all of it.
func (b Broken) Note() string {
	first, _, more := strings.Cut(b.Err.Error(), "\n")
	if more {
		first += "; and more"
	}
	return fmt.Sprintf("%s has a fault, and nothing of it is used: %s", b.File, first)
}

// mayKnow tells whether it names a model that another rulebook knows: then the two are held
// against each other by nobody, and neither counts.
func (b Broken) mayKnow(rb *rulebook.Rulebook, model string) bool {
	names := []string{model}
	if m, ok := rb.FindModel(model); ok {
		names = append(names, m.Key)
		for _, t := range m.Value.Also {
			names = append(names, t.Text)
		}
	}
	for _, n := range names {
		if b.text == nil || bytes.Contains(bytes.ToLower(b.text), []byte(strings.ToLower(n))) {
			return true
		}
	}
	return false
}
