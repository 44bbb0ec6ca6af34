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

func init() {
	roomCheck.Runs(PerInstall((*Case).room), PerRelease(func(c *Case, a Asking) []Line {
		return c.eachNeed(a, func(n *rulebook.Need) bool { return n.Doubt() == "" && n.StorageFree.Set() }, c.needRoom)
	}))
}

func (c *Case) needRoom(n *rulebook.Need) Line {
	have, v := c.StorageFree()
	if v.Known() || c.manager() == "" {
		return c.freeThere(c.enough(n.StorageFree.Bytes, have, "storage_free", v, [5]*Code{roomEnough, roomLittle, roomUnknown, roomGuessed, nil}))
	}
	base := Line{Device: v.Text(), Package: "needs " + y.FormatSize(n.StorageFree.Bytes), Sources: ofMember(v)}
	return c.roomUnsure(base, n.StorageFree.Bytes, v)
}

// room holds what will lie on the device at the same time against the free storage of who
// stores it: the device, or the one that manages it. An image that goes straight into a slot
// needs none.
func (c *Case) room() []Line {
	files := c.serves()
	if len(files) == 0 || c.Rules == nil {
		return nil
	}
	have, v := c.StorageFree()
	base := Line{Device: v.Text(), Sources: ofMember(v)}
	how := c.Rules.Installing(c.LikelyFamily())
	asked := how.WrittenTo.Text == rulebook.ToStorage
	total := int64(0)
	for _, f := range files {
		if how.Stores(c.slotted(f.item), c.manager() != "") {
			total += f.size
			base.Cite(Cited{OfPackage, fmt.Sprintf("%s, %s", f.name, y.FormatSize(f.size)), fact.Source{Kind: fact.Content, File: f.item.Address, Size: f.size}})
		}
	}
	if total == 0 {
		return nil
	}
	base.Package = y.FormatSize(total) + " to store"
	if asked {
		base.Cite(c.ofRule("install.written_to storage", how.WrittenTo.Spot))
	}
	switch {
	case v.State == member.Guessed, !v.Known() && (c.manager() != "" || asked):
		return []Line{c.roomUnsure(base, total, v)}
	case !v.Known():
		return []Line{roomNoted.become(base, y.FormatSize(total))}
	case total > have:
		return []Line{c.freeThere(roomLittle.become(base, y.FormatSize(total), y.FormatSize(have)))}
	}
	base.Device += " free"
	return []Line{roomEnough.become(base)}
}

// freeThere names who stores the files, where it is said to free some space.
func (c *Case) freeThere(l Line) Line {
	if name := c.manager(); name != "" && l.Code == roomLittle.Name {
		return l.Advise("free some space on %s, which stores it", name)
	}
	return l
}

// roomUnsure says that room is asked for, and why nobody can tell whether it is there.
func (c *Case) roomUnsure(base Line, total int64, v member.Value) Line {
	code := roomUnknown
	if v.State == member.Guessed {
		code = roomGuessed
	}
	name := c.manager()
	if name == "" {
		return code.become(base, y.FormatSize(total), why("storage_free", v)).Advise("%s", c.howToKnow("storage_free", v))
	}
	if m := c.Device.Manager(); m != nil {
		return code.become(base, y.FormatSize(total), fmt.Sprintf("how much %s has, which stores it, is not known", name)).Advise("read it off %s and add storage_free: to %s", name, m.File)
	}
	return code.become(base, y.FormatSize(total), fmt.Sprintf("%s, which stores it, has no device file here", name)).Advise("read %s with fitcheck device into the kit's devices, storage_free with it", name)
}

// manager is the name of the device that fetches and stores for this one; "" where it does
// so itself.
func (c *Case) manager() string { return c.Device.ManagedBy.Text }

// slotted tells whether an item is the image of a component with slots.
func (c *Case) slotted(it *survey.Item) bool {
	for _, k := range c.Components() {
		if cand := c.Chosen[k.Name]; cand != nil && cand.Item == it && cand.Slot != "" {
			return true
		}
	}
	return false
}
