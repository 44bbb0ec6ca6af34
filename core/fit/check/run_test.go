package check

import (
	"testing"

	"fitcheck/core/device"
	"fitcheck/core/member"
	"fitcheck/core/rulebook"
	"fitcheck/core/survey"
	"fitcheck/core/yamlfile"

	"github.com/stretchr/testify/assert"
)

// A check that nobody asks would be a promise that no verdict keeps.
func TestChecksAreAsked(t *testing.T) {
	for _, c := range All() {
		if c.Of == "" { // a command of its own asks the others
			assert.NotEmpty(t, c.Scopes(), "the check %s has no run", c.Name)
		}
		assert.NotEmpty(t, c.Doc, c.Name)
		assert.NotEmpty(t, c.Codes, "the check %s can give no reason", c.Name)
	}
}

// The runs of one scope come in the order of the checks, so that the first reason against
// an image is that of the first check.
func TestRunsInOrder(t *testing.T) {
	last := -1
	each(func(c *Check, _ PerImage) {
		assert.GreaterOrEqual(t, c.Order, last, c.Name)
		last = c.Order
	})
	assert.Positive(t, last)
}

// What a release asks for binds by what of it is installed: all of it with main; without main nothing that is said of
// main, or of the component itself; loaded through a boot loader only what must be there to start it.
func TestWhatConcernsAnInstall(t *testing.T) {
	c := New(&member.Member{Device: &device.Device{}}, &survey.Survey{}, Options{})
	of := func(component string) *rulebook.Need {
		return &rulebook.Need{Component: yamlfile.String{Text: component, Spot: yamlfile.Spot{Line: 1}}}
	}
	memory := &rulebook.Need{Memory: yamlfile.Size{Bytes: 1 << 20, Spot: yamlfile.Spot{Line: 1}}}
	feature := &rulebook.Need{Feature: yamlfile.String{Text: "ring", Spot: yamlfile.Spot{Line: 1}}}
	for _, x := range []struct {
		what string
		a    Asking
		n    *rulebook.Need
		want bool
	}{
		{"main, a need on boot", Asking{}, of("boot"), true},
		{"main, a need on main", Asking{}, of("main"), true},
		{"main, a feature", Asking{}, feature, true},
		{"boot alone, a need on main", Asking{Only: "boot"}, of("main"), false},
		{"boot alone, a need on boot", Asking{Only: "boot"}, of("boot"), false},
		{"boot alone, a need on another", Asking{Only: "boot"}, of("radio"), true},
		{"boot alone, a feature", Asking{Only: "boot"}, feature, true},
		{"boot alone, memory", Asking{Only: "boot"}, memory, true},
		{"main loaded, a need on boot", Asking{Only: "main", Loaded: true}, of("boot"), true},
		{"main loaded, a need on main", Asking{Only: "main", Loaded: true}, of("main"), false},
		{"main loaded, memory", Asking{Only: "main", Loaded: true}, memory, true},
		{"main loaded, a feature", Asking{Only: "main", Loaded: true}, feature, false},
	} {
		assert.Equal(t, x.want, x.a.concerns(c, x.n), x.what)
	}
}
