package fit

import (
	"fmt"
	"strings"

	"fitcheck/core/fit/check"
	"fitcheck/core/path"
	"fitcheck/core/rulebook"
	"fitcheck/core/shell"
	y "fitcheck/core/yamlfile"
)

// way says by which hops a device gets to a release, or what stands in the way; ""
// when nothing can be said.
func way(cache *Cache, c *check.Case, release, family string) string {
	text := cache.keptWay(wayKey(c, release, family), func() string { return findWay(c, release, family) })
	if text == "" {
		return ""
	}
	return fmt.Sprintf("%s; fitcheck path -device %s -to %s tells more", text, shell.Quote(c.Device.File), shell.Quote(release))
}

func findWay(c *check.Case, release, family string) string {
	res, err := path.Find(path.Request{Device: c.Device, Rules: func(string) *rulebook.Rulebook { return c.Rules },
		Goal: path.Goal{Version: release, Family: family}, Options: path.Options{Plain: true}})
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
func wayKey(c *check.Case, release, family string) check.Key {
	d := c.Device
	var b strings.Builder
	one := func(key, text string) {
		if _, guessed := d.Guessed(key); guessed {
			text += "?"
		}
		b.WriteString(text)
		b.WriteByte(0)
	}
	list := func(key string, l []y.String) {
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
		y.Map[y.String]
	}{{"installed.", d.Installed}, {"companions.", d.Companions}} {
		for _, e := range m.Entries {
			one(m.key+e.Key, e.Key+" "+e.Value.Text)
		}
		b.WriteByte(0)
	}
	for _, s := range d.Slots {
		if s.Active {
			one("slots."+s.Name.Text, s.Main.Text)
		}
	}
	list("boards", d.Boards)
	one("arch", d.Arch.Text)
	one("state", d.State.Text)
	list("features", d.Features)
	list("attached", d.AttachedModels())
	one("storage_free", fmt.Sprint(d.StorageFree.Bytes))
	one("memory", fmt.Sprint(d.Memory.Bytes))
	one("entitled_until", d.EntitledUntil.Day.String())
	if e := d.Entitled; e != nil {
		one("entitled", fmt.Sprint(e.From.Day, e.Active != nil && !*e.Active))
	}
	one("", release)
	one("", family)
	return check.Key{What: "way", Rules: c.Rules, Text: b.String()}
}
