package present

import (
	"bytes"
	"encoding/json"
	"fmt"

	"fitcheck/core/plan"
)

// WrittenRunbook is a runbook that was written as JSON on another day.
type WrittenRunbook struct {
	Name string
	doc  jsonRunbook
}

// ReadRunbook reads the document of runbook.
func ReadRunbook(name string, data []byte) (*WrittenRunbook, error) {
	w := &WrittenRunbook{Name: name}
	var doc jsonResults[jsonRunbook]
	if err := json.Unmarshal(data, &doc); err != nil || doc.Fitcheck.Document != "runbook" {
		return nil, fmt.Errorf("%s: it is no runbook in JSON; write one with fitcheck runbook -json", name)
	}
	switch {
	case doc.Fitcheck.Edition == 1: // that was the runbook itself
		if err := json.Unmarshal(data, &w.doc); err != nil {
			return nil, fmt.Errorf("%s: it is no runbook in JSON; write one with fitcheck runbook -json", name)
		}
	case len(doc.Results) == 1:
		w.doc = doc.Results[0]
	case len(doc.Results) > 1:
		return nil, fmt.Errorf("%s: it is the runbook of %d devices; write one for this device alone", name, len(doc.Results))
	}
	if len(w.doc.Steps) == 0 {
		return nil, fmt.Errorf("%s: it holds no steps: nothing was planned", name)
	}
	return w, nil
}

// To is the version that it leads to, Server who gives the files out.
func (w *WrittenRunbook) To() string     { return w.doc.To }
func (w *WrittenRunbook) Server() string { return w.doc.Server }

// Agrees tells why a step of it cannot be judged by the plan as it is made now: it is not for
// this device, or its steps are others. What stands before and after the hops may differ.
func (w *WrittenRunbook) Agrees(now *plan.Runbook, number int) error {
	if w.doc.Device != now.Device {
		return fmt.Errorf("%s: it is the runbook of %s, not of %s", w.Name, w.doc.Device, now.Device)
	}
	if number > len(w.doc.Steps) {
		return fmt.Errorf("%s: it has %d steps, and no step %d", w.Name, len(w.doc.Steps), number)
	}
	other := func(what string) error {
		return fmt.Errorf("%s: %s: the device file, the rulebook or the packages have changed since it was written, or it was asked for otherwise; write the runbook anew and go on by that", w.Name, what)
	}
	steps := runbookJSON(now, nil).Steps
	if len(steps) != len(w.doc.Steps) {
		return other(fmt.Sprintf("it has %d steps, and the plan as it is made now has %d", len(w.doc.Steps), len(steps)))
	}
	was, is := w.doc.Steps[number-1], steps[number-1]
	if was.Hop == 0 && is.Hop == 0 {
		return nil
	}
	a, err := json.Marshal(was)
	if err != nil {
		return err
	}
	if b, err := json.Marshal(is); err != nil || !bytes.Equal(a, b) {
		return other(fmt.Sprintf("its step %d (%q) is not that of the plan as it is made now (%q)", number, was.Text, is.Text))
	}
	return nil
}
