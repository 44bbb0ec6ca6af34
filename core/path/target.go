package path

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/rulebook"
	"fitcheck/core/spelling"
	"fitcheck/core/truth"
)

// target is the version that a path is to lead to.
type target struct {
	line, version int32
	text          string
	problem       string // why there is none
	notes         []string
	wanted        [][]rulebook.Wanted // what a certified set asks of the components, box by box
	newest        bool                // it was asked for as the newest
	channel       string              // of which channel; "" for any
}

// target finds the version that is asked for.
func (f *finder) target(t *team) target {
	box := t.boxes[0]
	at := 0
	if want := f.Goal.Family; want != "" {
		at = slices.IndexFunc(t.lines, func(l *line) bool { return strings.EqualFold(l.family, want) })
		if at < 0 {
			return target{problem: fmt.Sprintf("by %s, %s may not run the family %s; it may run %s", t.rules.File, box.Model, want, strings.Join(box.families, ", "))}
		}
	}
	text := strings.TrimSpace(f.Goal.Version)
	channel, byChannel := strings.CutPrefix(text, "channel:")
	if f.Goal.Set != nil {
		return f.certified(t, int32(at))
	}
	if text == Latest || byChannel {
		return t.newest(int32(at), strings.TrimSpace(channel), byChannel)
	}
	if i, ok := t.lines[at].lookUp(text, t.rules); ok {
		return target{line: int32(at), version: int32(i), text: t.lines[at].versions[i].Text}
	}
	if f.Goal.Family == "" {
		var found []target
		for k, l := range t.lines {
			if i, ok := l.lookUp(text, t.rules); ok {
				found = append(found, target{line: int32(k), version: int32(i), text: l.versions[i].Text, notes: []string{fmt.Sprintf("%s is a release of the family %s, not of %s", text, l.family, box.Family)}})
			}
		}
		if len(found) == 1 {
			return found[0]
		}
		if len(found) > 1 {
			return target{problem: fmt.Sprintf("several families have a release %s; say which with -family", text)}
		}
	}
	problem := fmt.Sprintf("%s lists no release %s", t.rules.File, text)
	if fam := t.lines[at].family; fam != "" {
		problem += " of the family " + fam
	}
	if word := spelling.Nearest(text, append(t.channels(int32(at)), Latest)); word != "" && !strings.ContainsAny(text, "0123456789") {
		return target{problem: problem + "; did you mean " + word + "?"}
	}
	if near := t.lines[at].nearest(text); len(near) > 0 {
		problem += "; the nearest are " + strings.Join(near, ", ")
	}
	return target{problem: problem + "; read its release notes and add it, or ask for another"}
}

// Latest asks for the newest release that stands.
const Latest = "latest"

// channels lists the channels of the releases of a line, as they are asked for.
func (t *team) channels(at int32) []string {
	var out []string
	for i := range t.lines[at].candidates {
		for _, rel := range t.lines[at].candidates[i].releases {
			out = addChannels(out, rel, "channel:")
		}
	}
	return out
}

// addChannels adds those of a release that are not there yet, each behind a prefix.
func addChannels(to []string, rel *rulebook.Release, prefix string) []string {
	if rel == nil {
		return to
	}
	for _, c := range rel.Channel.All {
		if !slices.Contains(to, prefix+c.Text) {
			to = append(to, prefix+c.Text)
		}
	}
	return to
}

// newest finds the newest release that stands and is meant for all boxes.
func (t *team) newest(at int32, channel string, byChannel bool) target {
	l := t.lines[at]
	var channels []string
	for i := len(l.versions) - 1; i >= 0; i-- {
		c := &l.candidates[i]
		for _, rel := range c.releases {
			if rel != nil && !rel.Withdrawn.Set() {
				channels = addChannels(channels, rel, "")
			}
		}
		of := ""
		if byChannel {
			of = channel
		}
		if !t.meant(l, c, of) {
			continue
		}
		what := "the newest release for it"
		if byChannel {
			what = "the newest release of the channel " + channel
		}
		return target{line: at, version: int32(i), text: l.versions[i].Text, newest: true, channel: of, notes: []string{fmt.Sprintf("%s is %s", l.versions[i].Text, what)}}
	}
	if byChannel {
		slices.Sort(channels)
		return target{problem: fmt.Sprintf("%s lists no release of the channel %q for %s; there is %s", t.rules.File, channel, t.boxes[0].hardware(), cmp.Or(strings.Join(channels, ", "), "none"))}
	}
	return target{problem: fmt.Sprintf("%s lists no release that stands for %s", t.rules.File, t.boxes[0].hardware())}
}

// meant tells whether a version is listed, stands, is for all boxes, and is of a
// channel; "" is any.
func (t *team) meant(l *line, c *candidate, channel string) bool {
	if !c.listed {
		return false
	}
	for b, rel := range c.releases {
		if rel == nil || rel.Withdrawn.Set() || rel.For(t.rules, t.boxes[b].Model, t.boxes[b].Revision) == truth.No || channel != "" && !rel.Channel.Has(channel) {
			return false
		}
	}
	return true
}

// find is the index of a version that is in the line.
func (l *line) find(text string) int {
	v, err := l.scheme.Parse(text)
	if err != nil {
		return -1
	}
	i := l.index(v)
	if i < len(l.versions) && l.scheme.Compare(l.versions[i], v) == 0 {
		return i
	}
	return -1
}

// only is the index of the only listed release that a version may be which leaves
// its build open, or gives one that the releases leave open.
func (l *line) only(text string) int {
	found := -1
	for i := range l.versions {
		if l.candidates[i].listed && l.scheme.Same(l.versions[i].Text, text) != truth.No {
			if found >= 0 {
				return -1
			}
			found = i
		}
	}
	return found
}

// lookUp finds a listed release by its version, which may be written compactly
// where that can mean one only.
func (l *line) lookUp(text string, r *rulebook.Rulebook) (int, bool) {
	i := l.find(text)
	if _, err := l.scheme.Parse(text); err == nil && (i < 0 || !l.candidates[i].listed) && len(r.Releases) > 0 {
		if k := l.only(text); k >= 0 {
			i = k
		}
	}
	if i < 0 {
		var known []string
		for k := range l.versions {
			known = append(known, l.versions[k].Text)
		}
		if all := l.scheme.Expand(text, known); len(all) == 1 {
			i = l.find(all[0])
		}
	}
	return i, i >= 0 && (l.candidates[i].listed || len(r.Releases) == 0)
}
