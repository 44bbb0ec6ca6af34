package fit

import (
	"fmt"
	"strings"

	"fitcheck/core/path"
	"fitcheck/core/rulebook"
	y "fitcheck/core/yamlfile"
)

// way says by which hops the device gets to the package's release, or what
// stands in the way; "" when nothing can be said.
func (j *judge) way() string {
	if j.rb == nil || j.release.text == "" {
		return ""
	}
	way := j.o.Cache.keptWay(j.wayKey(), j.findWay)
	if way == "" {
		return ""
	}
	return fmt.Sprintf("%s; fitcheck path -device %s -to %s tells more", way, j.d.File, j.release.text)
}

func (j *judge) findWay() string {
	res, err := path.Find(path.Request{Device: j.d, Rules: func(string) *rulebook.Rulebook { return j.rb },
		Goal: path.Goal{Version: j.release.text, Family: j.toFamily()}, Options: path.Options{Plain: true}})
	if err != nil {
		return ""
	}
	a := res.Plans[0]
	switch {
	case a.Found && len(a.Hops) == 0:
		return ""
	case a.Found:
		var hops []string
		for _, h := range a.Hops[:len(a.Hops)-1] {
			t := h.Release
			if h.BootOnly {
				t = "the boot loader of " + t
			}
			hops = append(hops, t)
		}
		if len(hops) == 0 {
			return "the release as a whole goes in one hop"
		}
		return fmt.Sprintf("go by way of %s, then %s", strings.Join(hops, ", then "), a.To)
	case len(a.Unsettled) > 0:
		return "whether there is another way is not settled"
	case len(a.Blocked) > 0:
		return fmt.Sprintf("there is no way round: %s: %s", a.Blocked[0].Release, a.Blocked[0].Because)
	}
	return ""
}

// wayKey is all that a way depends on: devices that are alike share it.
func (j *judge) wayKey() about {
	d := j.d
	var b strings.Builder
	one := func(key, text string) {
		if _, guessed := d.Guessed(key); guessed {
			text += "?"
		}
		b.WriteString(text)
		b.WriteByte(0)
	}
	list := func(key string, l []y.Text) {
		for _, t := range l {
			one(key, t.Text)
		}
		one(key, "")
	}
	one("model", d.Model.Text)
	one("revision", d.Revision.Text)
	one("family", d.Family.Text)
	for _, m := range []struct {
		key string
		y.Map[y.Text]
	}{{"installed.", d.Installed}, {"companions.", d.Companions}} {
		for _, e := range m.Entries {
			one(m.key+e.Key, e.Key+" "+e.Value.Text)
		}
		b.WriteByte(0)
	}
	for _, s := range d.Slots {
		if s.Active {
			one("slots", s.Main.Text)
		}
	}
	list("features", d.Features)
	list("attached", d.Attached)
	one("storage_free", fmt.Sprint(d.StorageFree.Bytes))
	one("memory", fmt.Sprint(d.Memory.Bytes))
	one("entitled_until", d.EntitledUntil.Day.String())
	one("", j.release.text)
	one("", j.toFamily())
	return about{what: "way", rb: j.rb, text: b.String()}
}
