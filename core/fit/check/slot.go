package check

import (
	"fmt"

	"fitcheck/core/device"
	"fitcheck/core/member"
	"fitcheck/core/survey"
	y "fitcheck/core/yamlfile"
)

var slotCheck = Register(&Check{Name: "slot", Column: "room", Order: 180, Doc: "Does the image fit a slot, and is that not the one that runs?"})

var (
	slotFree     = slotCheck.Code("free", Fits, "a slot that is not active takes it", "it fits slot %s, which is not the active one", "")
	slotOnly     = slotCheck.Code("only_one", Fits, "it fits the only slot", "it fits slot %s, the only one", "")
	slotTooBig   = slotCheck.Code("too_big", Misfit, "the image is larger than a slot", "the image is %s; a slot holds %s", "do not install it; look for an image made for this hardware")
	slotNoSize   = slotCheck.Code("size_unknown", Unsettled, "the size of a slot is not known", "the rulebook does not say how large a slot of this model and revision is", "add slot: to the model or revision in the rulebook")
	slotUnknown  = slotCheck.Code("device_unknown", Unsettled, "the device's slots are not known, or which of them is active", "%s", "")
	slotGuessed  = slotCheck.Code("guessed", Unsettled, "the slots are only guessed", "%s", "")
	slotInActive = slotCheck.Code("device_contradicted", Unsettled, "what runs is not what the active slot holds", "%s", "")
)

func init() {
	slotCheck.Runs(PerImage(func(c *Case, k Component, cand *Candidate) []Line {
		if l, _, ok := c.slot(k, cand.Item); ok {
			return []Line{l}
		}
		return nil
	}))
}

// slot checks that an image fits the place it would be written to, and that this is
// not the place the device runs from. ok is false for a component without slots.
func (c *Case) slot(k Component, it *survey.Item) (l Line, slot string, ok bool) {
	if !k.Slotted {
		return Line{}, "", false
	}
	v := c.Slots()
	base := Line{Component: k.Name, Device: "slots not known", Package: y.FormatSize(it.Size)}
	base.Cite(ofContent(y.FormatSize(it.Size), it))
	size, room := c.SlotSize()
	if room.Known() {
		base.Device = "slots of " + y.FormatSize(size)
		base.Cite(Cited{OfDevice, base.Device, room.At})
	}
	base.Cite(ofMember(v)...)
	target, whyNot := c.target()
	switch {
	case room.Known() && it.Size > size:
		return slotTooBig.become(base, y.FormatSize(it.Size), y.FormatSize(size)), "", true
	case !room.Known():
		return slotNoSize.become(base), "", true
	case v.State == member.Guessed:
		return slotGuessed.become(base, why("slots", v)).Advise("%s", c.howToKnow("slots", v)), "", true
	case target == nil:
		return slotUnknown.become(base, whyNot).Advise("read the slots off the device and add them, with active: true at the running one, to %s", c.Device.File), "", true
	}
	if in := c.Installed(c.Main()); in.State == member.Contradicted {
		return slotInActive.become(base, in.Why).Advise("%s", c.howToKnow("installed."+c.Main(), in)), "", true
	}
	base.Device = fmt.Sprintf("slot %s of %s", target.Name.Text, y.FormatSize(size))
	base.Cite(Cited{OfDevice, "slot " + target.Name.Text, c.Device.Source("slots", target.Spot)})
	if target.Active {
		return slotOnly.become(base, target.Name.Text), target.Name.Text, true
	}
	return slotFree.become(base, target.Name.Text), target.Name.Text, true
}

// target is the slot that an install writes to: one that is not active; the running
// one only where there is no other.
func (c *Case) target() (slot *device.Slot, whyNot string) {
	slots := c.Device.Slots
	if len(slots) == 0 {
		return nil, "it is not known which slots the device has"
	}
	active := false
	for i := range slots {
		if slots[i].Active {
			active = true
		} else if slot == nil {
			slot = &slots[i]
		}
	}
	if !active {
		return nil, "it is not known which slot is active"
	}
	if slot == nil {
		slot = &slots[0]
	}
	return slot, ""
}
