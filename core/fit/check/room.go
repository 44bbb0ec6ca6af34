package check

import (
	"fmt"

	"fitcheck/core/fact"
	"fitcheck/core/member"
	"fitcheck/core/rulebook"
	"fitcheck/core/survey"
	y "fitcheck/core/yamlfile"
)

var roomCheck = Register(&Check{Name: "room", Column: "room", Order: 190, Doc: "Is there room for what lands on the device's storage?"})

var (
	roomEnough  = roomCheck.Code("enough", Fits, "there is enough free storage", "there is enough free storage", "")
	roomLittle  = roomCheck.Code("too_little", Misfit, "there is too little free storage", "it needs %s of free storage; %s is free", "free some space on the device")
	roomUnknown = roomCheck.Code("device_unknown", Unsettled, "a need asks for free storage, and the device's is not known", "it needs %s of free storage, and %s", "")
	roomGuessed = roomCheck.Code("guessed", Unsettled, "the free storage is only guessed", "it needs %s of free storage, and %s", "")
	roomNoted   = roomCheck.Code("not_known", Note, "how much storage is free is not known, and nothing asks for it", "the files have %s; how much storage is free is not known", "")
)

func (c *Case) needRoom(n *rulebook.Need) Line {
	have, v := c.StorageFree()
	return c.enough(n.StorageFree.Bytes, have, "storage_free", v, [5]*Code{roomEnough, roomLittle, roomUnknown, roomGuessed, nil})
}

// room holds what will lie on the device at the same time against its free storage.
// An image that goes into a slot of its own needs none.
func (c *Case) room(files []served) []Line {
	have, v := c.StorageFree()
	base := Line{Device: v.Text(), Sources: ofMember(v)}
	total := int64(0)
	for _, f := range files {
		if !c.slotted(f.item) {
			total += f.size
			base.Cite(Cited{OfPackage, fmt.Sprintf("%s, %s", f.name, y.FormatSize(f.size)), fact.Source{Kind: fact.Content, File: f.item.Address, Size: f.size}})
		}
	}
	if total == 0 {
		return nil
	}
	base.Package = y.FormatSize(total) + " to store"
	switch {
	case v.State == member.Guessed:
		return []Line{roomGuessed.become(base, y.FormatSize(total), why("storage_free", v)).Advise("%s", c.howToKnow("storage_free", v))}
	case !v.Known():
		return []Line{roomNoted.become(base, y.FormatSize(total))}
	case total > have:
		return []Line{roomLittle.become(base, y.FormatSize(total), y.FormatSize(have))}
	}
	base.Device += " free"
	return []Line{roomEnough.become(base)}
}

// slotted tells whether an item is the image of a component with slots.
func (c *Case) slotted(it *survey.Item) bool {
	for _, k := range c.Components() {
		if cand := c.Chosen[k.Name]; cand != nil && cand.Item == it && cand.Slot != "" {
			return true
		}
	}
	return false
}
