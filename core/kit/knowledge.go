package kit

import (
	"fitcheck/core/device"
)

// CaptureRules are those of all rulebooks.
func (k *Kit) CaptureRules() []device.CaptureRule {
	var out []device.CaptureRule
	for _, rb := range k.Rulebooks {
		out = append(out, rb.CaptureRules()...)
	}
	return out
}

// Model finds the model that a text names in the rulebooks.
func (k *Kit) Model(text string) (string, bool) {
	for _, rb := range k.Rulebooks {
		if model, ok := rb.ModelIn(text); ok {
			return model, true
		}
	}
	return "", false
}

// Revision tells whether a rulebook gives a model a hardware revision.
func (k *Kit) Revision(model, revision string) bool {
	for _, rb := range k.Rulebooks {
		if m, ok := rb.FindModel(model); ok {
			if _, ok := m.Value.Revision(revision); ok {
				return true
			}
		}
	}
	return false
}

// Owners lists whom the rulebooks give a board.
func (k *Kit) Owners(board string) []device.Owner {
	var out []device.Owner
	for _, rb := range k.Rulebooks {
		for _, o := range rb.Owners(board) {
			out = append(out, device.Owner{Model: o.Model, Revision: o.Revision, Where: o.Source.Where()})
		}
	}
	return out
}
