package check

import (
	"fitcheck/core/member"
	"fitcheck/core/rulebook"
	y "fitcheck/core/yamlfile"
)

var memoryCheck = Register(&Check{Name: "memory", Column: "room", Order: 200, Doc: "Has the device the memory that the release needs?"})

var (
	memoryEnough  = memoryCheck.Code("enough", Fits, "there is enough", "there is enough memory", "")
	memoryLittle  = memoryCheck.Code("too_little", Misfit, "there is too little", "it needs %s of memory; the device has %s", "the release is not for devices with so little memory")
	memoryUnknown = memoryCheck.Code("device_unknown", Unsettled, "the device's memory is not known", "it needs %s of memory, and %s", "")
	memoryGuessed = memoryCheck.Code("guessed", Unsettled, "the device's memory is only guessed", "it needs %s of memory, and %s", "")
	memoryContra  = memoryCheck.Code("device_contradicted", Unsettled, "device file and rulebook contradict each other on it", "it needs %s of memory, and %s", "")
)

func init() {
	memoryCheck.Runs(PerRelease(func(c *Case, a Asking) []Line {
		return c.eachNeed(a, func(n *rulebook.Need) bool { return n.Doubt() == "" && n.Memory.Set() }, c.needMemory)
	}))
}

func (c *Case) needMemory(n *rulebook.Need) Line {
	have, v := c.Memory()
	return c.enough(n.Memory.Bytes, have, "memory", v, [5]*Code{memoryEnough, memoryLittle, memoryUnknown, memoryGuessed, memoryContra})
}

// enough compares sizes. The codes are: enough, too little, not known, guessed,
// contradicted.
func (c *Case) enough(want, have int64, key string, v member.Value, k [5]*Code) Line {
	need := y.FormatSize(want)
	base := Line{Device: v.Text(), Package: "needs " + need, Sources: ofMember(v)}
	switch {
	case v.State == member.Missing:
		return k[2].become(base, need, why(key, v)).Advise("read it off the device and add %s: to %s", key, c.Device.File)
	case v.State == member.Guessed:
		return k[3].become(base, need, why(key, v)).Advise("%s", c.howToKnow(key, v))
	case v.State == member.Contradicted:
		return k[4].become(base, need, why(key, v)).Advise("%s", c.howToKnow(key, v))
	case have < want:
		return k[1].become(base, need, y.FormatSize(have))
	}
	base.Device = y.FormatSize(have)
	return k[0].become(base)
}
