package device

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"fitcheck/core/fact"
)

// CaptureRule says how the console output of one line of products is read.
type CaptureRule struct {
	// Recognise is found in a line of every such capture.
	Recognise *regexp.Regexp
	// Member begins what is said of one member of a group; its first group is
	// the member's name.
	Member *regexp.Regexp
	// Read gives, for a key of a device file, the pattern whose first group is
	// the value.
	Read []KeyPattern
	// Each gives, for a list of a device file, the pattern of one entry; its
	// named groups are the entry's keys, with "_" for ".".
	Each []KeyPattern
	// Name tells where the rule stands.
	Name string
}

// KeyPattern is a pattern for a key.
type KeyPattern struct {
	Key     string
	Pattern *regexp.Regexp
}

// eachGroups are the groups that the entries of a list may name; the first is
// taken from an unnamed group where there is no named one.
var eachGroups = map[string][]string{
	"slots":      nil, // name, active, next, and any component
	"files":      fileKeys,
	"installed":  {"component", "version"},
	"companions": {"name", "version"},
	"boards":     {"board"}, "features": {"feature"}, "attached": {"model", "name", "serial", "main"}, "faults": {"text"},
	"members": nil, // any key of one box
}

// Check finds what is wrong with a rule: the message for each key at fault.
//
// In one piece: the rules on a pattern, one after the other.
func (c *CaptureRule) Check(fail func(key, message string)) {
	for _, r := range c.Read {
		if err := CheckKey(r.Key); err != nil {
			fail(r.Key, err.Error())
		} else if r.Pattern.NumSubexp() == 0 {
			fail(r.Key, "the pattern has no group; put the value in parentheses")
		}
	}
	for _, e := range c.Each {
		groups, ok := eachGroups[e.Key]
		if !ok {
			fail(e.Key, fmt.Sprintf("%q is no list of a device file; write slots, files, installed, companions, boards, features, attached, faults or members", e.Key))
			continue
		}
		names := e.Pattern.SubexpNames()
		for _, n := range names[1:] {
			switch {
			case n == "" || e.Key == "slots":
			case e.Key == "members":
				if err := CheckKey(memberKey(n)); err != nil {
					fail(e.Key, fmt.Sprintf("the group %q: %v", n, err))
				}
			case !slices.Contains(groups, n):
				fail(e.Key, fmt.Sprintf("the group %q has no meaning here; groups are %s", n, strings.Join(groups, ", ")))
			}
		}
		switch {
		case len(names) == 1:
			fail(e.Key, "the pattern has no groups")
		case e.Key == "members" && !slices.Contains(names, "name"):
			fail(e.Key, "the pattern needs the group name: what the member is called")
		case e.Key == "slots" && !slices.Contains(names, "name"):
			fail(e.Key, "the pattern needs the group name")
		case e.Key == "attached" && slices.Contains(names, "model"): // unnamed, the first group is the model
		case e.Key == "attached" && slices.ContainsFunc(names, func(n string) bool { return n != "" }):
			fail(e.Key, "the pattern needs the group model")
		case e.Key != "attached" && len(groups) > 1 && !slices.Contains(names, groups[0]):
			fail(e.Key, fmt.Sprintf("the pattern needs the group %s", groups[0]))
		}
	}
	if c.Member != nil && c.Member.NumSubexp() == 0 {
		fail("member", "the pattern has no group; put the member's name in parentheses")
	}
}

// memberKey is the key that a group of a members pattern stands for.
func memberKey(group string) string {
	switch group {
	case "main", "boot": // what runs on it, in short
		return "installed." + group
	}
	for _, head := range []string{"installed", "companions", "config"} {
		if rest, ok := strings.CutPrefix(group, head+"_"); ok {
			return head + "." + rest
		}
	}
	return group
}

func init() {
	registerForm(form{rank: 70, read: func(in *input) (*Reading, bool, error) {
		r, ok := readCapture(in.file, in.screen(), in.rules)
		return r, ok, nil
	}})
}

// readCapture reads a console capture by the rules that recognise it. ok is
// false when none does.
func readCapture(file string, lines []line, rules []CaptureRule) (r *Reading, ok bool) {
	r = &Reading{File: file}
	var by []string
	for i := range rules {
		c := &rules[i]
		if slices.ContainsFunc(lines, func(l line) bool { return c.Recognise.MatchString(l.text) || c.Recognise.MatchString(l.bare()) }) {
			by = append(by, c.Name)
			r.capture(c, lines)
		}
	}
	r.Form, r.ByRule = "console capture, read by "+strings.Join(by, " and "), len(by) > 0
	return r, len(by) > 0
}

func (r *Reading) capture(c *CaptureRule, lines []line) {
	member := ""
	for i, l := range lines {
		where := lineOf(r.File, l.number)
		if c.Member != nil {
			if m := find(c.Member, l); m != nil {
				member = m[1]
				r.add(member, "name", member, where)
				r.Group = "stack"
			}
		}
		for _, k := range c.Read {
			if m := findFrom(k.Pattern, lines, i); m != nil {
				r.take(member, k.Key, first(m), where)
			}
		}
		for _, e := range c.Each {
			if m := findFrom(e.Pattern, lines, i); m != nil {
				r.entry(member, e, m, where)
			}
		}
	}
}

// longestRow bounds how many lines one pattern may see at once.
const longestRow = 8

// rows is how many lines a pattern sees at once: one, and another for each line break that is
// written in it.
func rows(re *regexp.Regexp) int { return min(longestRow, 1+strings.Count(re.String(), `\n`)) }

// findFrom finds a pattern in a line; one that holds line breaks in it and the lines that follow,
// blank ones left out. What it finds begins in the line itself.
func findFrom(re *regexp.Regexp, lines []line, i int) []string {
	n := rows(re)
	if n == 1 || lines[i].text == "" {
		return find(re, lines[i])
	}
	var b strings.Builder
	b.WriteString(lines[i].bare())
	first := b.Len()
	for _, l := range lines[i+1:] {
		if n == 1 {
			break
		}
		if strings.TrimSpace(l.text) != "" {
			b.WriteString("\n" + l.bare())
			n--
		}
	}
	return startingIn(re, b.String(), first)
}

// startingIn finds a pattern in a text, where it begins in its first bytes.
func startingIn(re *regexp.Regexp, text string, first int) []string {
	if at := re.FindStringIndex(text); at == nil || at[0] > first {
		return nil
	}
	return re.FindStringSubmatch(text)
}

// Window is what a pattern sees of a capture's lines from one on, and what it finds there; m is
// nil for nothing.
func Window(re *regexp.Regexp, lines []TextLine, i int) (text string, used int, m []string) {
	used = min(rows(re), len(lines)-i)
	var b strings.Builder
	for k, l := range lines[i : i+used] {
		if k > 0 {
			b.WriteByte('\n')
		}
		b.WriteString(l.Text)
	}
	return b.String(), used, startingIn(re, b.String(), len(lines[i].Text))
}

func find(re *regexp.Regexp, l line) []string {
	if m := re.FindStringSubmatch(l.text); m != nil {
		return m
	}
	return re.FindStringSubmatch(l.bare())
}

// first is the first group that took part in a match.
func first(m []string) string {
	for _, t := range m[1:] {
		if strings.TrimSpace(t) != "" {
			return t
		}
	}
	return ""
}

// marked is what a group says that marks one of several: anything that it matched, unless the
// text itself is a no.
func marked(text string) string {
	if no, err := yesNo(text); err == nil {
		return no
	}
	return "true"
}

// take adds a value; one that has not the form of its key is told and left.
func (r *Reading) take(member, key, text string, where fact.Source) {
	t, err := tidy(key, text)
	if err != nil {
		r.note("%s: %v; it is left out", where, err)
		return
	}
	r.add(member, key, t, where)
}

// entry adds one entry of a list.
func (r *Reading) entry(member string, e KeyPattern, m []string, where fact.Source) {
	group := map[string]string{}
	for i, n := range e.Pattern.SubexpNames() {
		if n != "" && i < len(m) && strings.TrimSpace(m[i]) != "" {
			group[n] = strings.TrimSpace(m[i])
		}
	}
	switch e.Key {
	case "slots":
		r.slotEntry(member, e.Pattern.SubexpNames(), group, where)
	case "files":
		r.fileEntry(member, group, where)
	case "installed", "companions":
		name := group[eachGroups[e.Key][0]]
		if name != "" && group["version"] != "" {
			r.add(member, e.Key+"."+name, group["version"], where)
		}
	case "members":
		if group["name"] == "" {
			return
		}
		r.Group = "stack"
		r.add(group["name"], "name", group["name"], where)
		for _, n := range e.Pattern.SubexpNames() {
			if n != "name" && group[n] != "" {
				r.take(group["name"], memberKey(n), group[n], where)
			}
		}
	case "attached":
		r.attachedEntry(member, cmp.Or(group["model"], first(m)), group, where)
	default:
		r.take(member, e.Key, first(m), where)
	}
}

func (r *Reading) slotEntry(member string, names []string, group map[string]string, where fact.Source) {
	if group["name"] == "" {
		return
	}
	slot := "slots." + group["name"]
	r.add(member, slot+".name", group["name"], where)
	for _, n := range names {
		switch {
		case n == "" || n == "name" || group[n] == "":
		case n == "active" || n == "next":
			r.add(member, slot+"."+n, marked(group[n]), where)
		default:
			r.add(member, slot+"."+n, group[n], where)
		}
	}
}

func (r *Reading) fileEntry(member string, group map[string]string, where fact.Source) {
	if group["file"] == "" {
		return
	}
	file := "files." + group["file"]
	r.add(member, file+".file", group["file"], where)
	for _, n := range fileKeys[1:] {
		switch {
		case group[n] == "":
		case n == "next":
			r.add(member, file+".next", marked(group[n]), where)
		default:
			r.take(member, file+"."+n, group[n], where)
		}
	}
}

func (r *Reading) attachedEntry(member, model string, group map[string]string, where fact.Source) {
	r.take(member, "attached", model, where)
	for _, n := range []string{"name", "serial", "main"} {
		if last := len(r.Values) - 1; group[n] != "" && last >= 0 && r.Values[last].At == where {
			if r.Values[last].More == nil {
				r.Values[last].More = map[string]string{}
			}
			r.Values[last].More[n] = group[n]
		}
	}
}
