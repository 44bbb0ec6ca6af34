package fit

import (
	"fmt"

	"fitcheck/core/device"
	"fitcheck/core/fact"
	"fitcheck/core/survey"
	y "fitcheck/core/yamlfile"
)

// slot checks that an image fits the place it would be written to, and that
// this is not the place the device runs from.
func (j *judge) slot(c component, it *survey.Item) (Check, string) {
	if !c.slotted {
		return Check{}, ""
	}
	size := Cited{OfPackage, y.FormatSize(it.Size), fact.Source{Kind: fact.Content, File: it.Address, Size: it.Size}}
	ch := Check{Check: "slot", Component: c.name, Package: y.FormatSize(it.Size)}
	target, whyNot := j.target()
	unknown := Cited{OfDevice, "not known", fact.Source{Kind: fact.DeviceFile, File: j.d.File}}
	var room y.Size
	known := false
	if j.model != nil {
		room, known = j.rb.SlotSize(&j.model.Value, j.first(fact.Revision))
	}
	if known {
		ch.Device = "slots of " + y.FormatSize(room.Bytes)
		unknown = Cited{OfDevice, ch.Device, j.rb.Source(room.Spot)}
	}
	ch.Sources = []Cited{unknown, size}
	if target != nil {
		ch.Sources = append(ch.Sources, Cited{OfDevice, "slot " + target.Name.Text, j.d.Source("slots", target.Spot)})
	}
	switch {
	case known && it.Size > room.Bytes:
		ch.Outcome = Misfit
		ch.Because = fmt.Sprintf("the image has %s and a slot takes %s", y.FormatSize(it.Size), y.FormatSize(room.Bytes))
		ch.Advice = "do not install it; look for an image made for this hardware"
	case !known:
		ch.Outcome, ch.Device = Unsettled, "slot size not known"
		ch.Because = "the rulebook does not say how large a slot of this model and revision is"
		ch.Advice = "add slot: to the model or revision in the rulebook"
	case target == nil:
		ch.Outcome, ch.Because = Unsettled, whyNot
		ch.Advice = "read the slots off the device and add them, with active: true at the running one, to " + j.d.File
	default:
		ch.Outcome = Fits
		ch.Because = fmt.Sprintf("it fits, and slot %s takes it", target.Name.Text)
		if target.Active {
			ch.Because = fmt.Sprintf("it fits slot %s, the only one", target.Name.Text)
		}
		ch.Device = fmt.Sprintf("slot %s of %s", target.Name.Text, y.FormatSize(room.Bytes))
		return ch, target.Name.Text
	}
	return ch, ""
}

// target is the slot that an install writes to: one that is not active; the
// running one only where there is no other.
func (j *judge) target() (slot *device.Slot, whyNot string) {
	if _, guessed := j.d.Guessed("slots"); guessed || len(j.d.Slots) == 0 {
		return nil, "it is not known which slots the device has"
	}
	active := false
	for i := range j.d.Slots {
		if j.d.Slots[i].Active {
			active = true
		} else if slot == nil {
			slot = &j.d.Slots[i]
		}
	}
	if !active {
		return nil, "it is not known which slot is active"
	}
	if slot == nil {
		slot = &j.d.Slots[0]
	}
	return slot, ""
}
