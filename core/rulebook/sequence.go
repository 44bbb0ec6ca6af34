package rulebook

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"fitcheck/core/device"
	y "fitcheck/core/yamlfile"
)

// SequenceStep is one step of a night, as a rulebook orders them. A step that bears the name of
// a built-in one is that step, and takes its wording where it says none.
type SequenceStep struct {
	y.Spot
	Step        y.String        `yaml:"step" doc:"name of the step: a built-in one, or your own"`
	Do          y.String        `yaml:"do" doc:"what is typed, a text/template; a line each"`
	Act         y.String        `yaml:"act" doc:"what is done by hand"`
	See         y.String        `yaml:"see" doc:"what is to be seen then"`
	IfNot       y.String        `yaml:"if_not" doc:"what to do when it is not seen"`
	Wait        Span            `yaml:"wait" doc:"how long it takes: 10m, or 3m-6m"`
	Tries       int             `yaml:"tries" doc:"how often it is tried before it counts as failed"`
	Each        y.String        `yaml:"each" enum:"once,hop,member,component" doc:"how often the step is taken"`
	When        Conditions      `yaml:"when" doc:"only then: crosses_family resets_config downward group slotted first_hop last_hop managed"`
	Restart     y.String        `yaml:"restart" enum:"command,automatic" doc:"whether the device restarts by itself"`
	Shows       y.Map[y.String] `yaml:"shows" doc:"key of a device file to what a capture must show, a text/template"`
	MustShow    y.Pattern       `yaml:"must_show" doc:"what a line of the capture must show"`
	MustNotShow y.Pattern       `yaml:"must_not_show" doc:"what no line of the capture may show"`
}

// Span is a stretch of time, or a range of them.
type Span struct {
	From, To time.Duration
	y.Spot
}

// ReadScalar implements yamlfile.Scalar.
func (s *Span) ReadScalar(text string, at y.Spot) error {
	from, to, ranged := strings.Cut(text, "-")
	if !ranged {
		to = from
	}
	var a, b y.Duration
	if a.ReadScalar(strings.TrimSpace(from), at) != nil || b.ReadScalar(strings.TrimSpace(to), at) != nil || a.Time > b.Time {
		return fmt.Errorf("%q is not a stretch of time; write it as 10m, or 3m-6m", text)
	}
	*s = Span{a.Time, b.Time, at}
	return nil
}

// Set tells whether the file gave one.
func (s Span) Set() bool { return s.Line > 0 }

// Conditions are words of which all must hold.
type Conditions struct {
	y.Spot
	Words []y.String
}

// FromScalar reads words with blanks between them.
func (c *Conditions) FromScalar(text string, at y.Spot) error {
	c.Spot = at
	for _, w := range strings.Fields(text) {
		c.Words = append(c.Words, y.String{Text: w, Spot: at})
	}
	return nil
}

// List reads a list of words.
func (c *Conditions) List(at y.Spot) any {
	c.Spot = at
	return &c.Words
}

var conditions = []string{"crosses_family", "resets_config", "downward", "group", "slotted", "first_hop", "last_hop", "managed"}

// The built-in steps, in the order in which they are taken where no sequence says otherwise, and
// how often each is.
var builtIn = []struct{ step, each, when string }{
	{"space", "member", ""},
	{"transfer", "component", ""},
	{"verify", "component", ""},
	{"install", "component", ""},
	{"activate", "member", "slotted"},
	{"save", "member", ""},
	{"restart", "member", ""},
	{"check", "hop", ""},
}

// Announce is the step that tells the users; it is built in, and taken only where a sequence
// asks for it.
const Announce = "announce"

// Activate is the step that chooses what starts next.
const Activate = "activate"

// steps are the names that built-in steps have.
var steps = []string{Announce, "backup", "save", "space", "transfer", "verify", "install", "activate", "restart", "check", "back"}

// BuiltIns lists the names of the built-in steps.
func BuiltIns() []string { return slices.Clone(steps) }

// BuiltIn tells whether a step is a built-in one.
func BuiltIn(step string) bool { return slices.Contains(steps, step) }

// Ordered is the sequence of a hop: the rulebook's own, else the built-in one without what it
// skips. Steps that are named again without wording are as they were said before.
func (r *Rulebook) Ordered() []SequenceStep {
	var out []SequenceStep
	if r != nil && len(r.Sequence) > 0 {
		said := map[string]SequenceStep{}
		for _, s := range r.Sequence {
			if before, ok := said[s.Step.Text]; ok && !BuiltIn(s.Step.Text) && s.silent() {
				again := before
				again.Spot, again.When = s.Spot, s.When
				if s.Wait.Set() {
					again.Wait = s.Wait
				}
				s = again
			} else if !s.silent() {
				said[s.Step.Text] = s
			}
			if !s.Each.Set() {
				s.Each.Text = usualEach(s.Step.Text)
			}
			out = append(out, s)
		}
		return out
	}
	for _, b := range builtIn {
		if r != nil && slices.ContainsFunc(r.Skip, func(t y.String) bool { return t.Text == b.step }) {
			continue
		}
		s := SequenceStep{Step: y.String{Text: b.step}, Each: y.String{Text: b.each}}
		if b.when != "" {
			s.When.Words = []y.String{{Text: b.when}}
		}
		out = append(out, s)
	}
	return out
}

// usualEach is how often a step is taken that does not say it.
func usualEach(step string) string {
	for _, b := range builtIn {
		if b.step == step {
			return b.each
		}
	}
	if step == "back" || !BuiltIn(step) {
		return "hop"
	}
	return "once"
}

func (s *SequenceStep) silent() bool {
	return !s.Do.Set() && !s.Act.Set() && !s.See.Set() && len(s.Shows.Entries) == 0 && !s.MustShow.Set() && !s.MustNotShow.Set()
}

// Remedy is what helps against a failure that a device reports.
type Remedy struct {
	y.Spot
	Shows  y.Pattern `yaml:"shows" doc:"found in the reason of a job, or in a line of the capture"`
	Do     y.String  `yaml:"do"`
	Source y.String  `yaml:"source" doc:"key of a document under sources"`
}

// RemedyFor finds what helps against one of some texts.
func (r *Rulebook) RemedyFor(texts ...string) *Remedy {
	if r == nil {
		return nil
	}
	for i := range r.Remedies {
		for _, t := range texts {
			if m := &r.Remedies[i]; m.Shows.Set() && t != "" && m.Shows.MatchString(t) {
				return m
			}
		}
	}
	return nil
}

// AfterCheck is something to see to after an install: by a person, or held against captures.
type AfterCheck struct {
	y.Spot
	Say         y.String  `yaml:"say" doc:"what it is that is seen to"`
	MustShow    y.Pattern `yaml:"must_show" doc:"what a line of the captures must show"`
	MustNotShow y.Pattern `yaml:"must_not_show" doc:"what no line of the captures may show"`
	NewOnly     bool      `yaml:"new_only" doc:"lines that captures from before show, too, do not count"`
}

// FromScalar reads what a person is to see to.
func (a *AfterCheck) FromScalar(text string, at y.Spot) error {
	a.Spot = at
	return a.Say.ReadScalar(text, at)
}

// ByCapture says that captures settle it.
func (a *AfterCheck) ByCapture() bool { return a.MustShow.Set() || a.MustNotShow.Set() }

// Text is what is seen to.
func (a *AfterCheck) Text() string {
	switch {
	case a.Say.Set():
		return a.Say.Text
	case a.MustShow.Set():
		return "the console shows " + a.MustShow.String()
	case a.MustNotShow.Set():
		return "the console does not show " + a.MustNotShow.String()
	}
	return ""
}

// AfterChecks are what is to be seen to after an install of some releases: what the rulebook
// asks for always, and what they do.
func (r *Rulebook) AfterChecks(releases ...*Release) []AfterCheck {
	var out []AfterCheck
	add := func(list []AfterCheck) {
		for _, a := range list {
			if !slices.ContainsFunc(out, func(o AfterCheck) bool { return o.Spot == a.Spot && o.Text() == a.Text() }) {
				out = append(out, a)
			}
		}
	}
	for _, rel := range releases {
		if rel != nil {
			add(rel.ChecksAfter)
		}
	}
	if r != nil {
		add(r.ChecksAfter)
	}
	return out
}

func (c *checker) afterChecks(list []AfterCheck) {
	for _, a := range list {
		switch {
		case a.Text() == "":
			c.fail(a.Spot, "this check looks at nothing", "write a text, or must_show: or must_not_show: with a pattern")
		case a.NewOnly && !a.MustNotShow.Set():
			c.fail(a.Spot, "new_only goes with must_not_show", "")
		}
	}
}

// templates are what words in a step may speak of.
var templates = regexp.MustCompile(`\{\{`)

// In one piece: the rules on a step, one after the other.
func (c *checker) sequence() {
	if len(c.r.Sequence) > 0 && len(c.r.Skip) > 0 {
		c.fail(c.r.Skip[0].Spot, "skip stands beside sequence", "leave the step out of the sequence instead")
	}
	for _, t := range c.r.Skip {
		if !BuiltIn(t.Text) {
			c.fail(t.Spot, fmt.Sprintf("there is no built-in step %q", t.Text), "built in are "+strings.Join(steps, ", "))
		}
	}
	said := map[string]bool{}
	for i := range c.r.Sequence {
		s := &c.r.Sequence[i]
		if !s.Step.Set() {
			c.fail(s.Spot, "a step needs a name", "add step:")
			continue
		}
		if s.silent() && !BuiltIn(s.Step.Text) && !said[s.Step.Text] {
			c.fail(s.Spot, fmt.Sprintf("the step %q says nothing", s.Step.Text), "add do:, act: or see:, or name a built-in step: "+strings.Join(steps, ", "))
		}
		said[s.Step.Text] = true
		if e := s.Each.Text; s.Each.Set() && !slices.Contains([]string{"once", "hop", "member", "component"}, e) {
			c.fail(s.Each.Spot, fmt.Sprintf("each is once, hop, member or component, not %q", e), "")
		}
		if t := s.Restart; t.Set() && !slices.Contains(installs["restart"], t.Text) {
			c.fail(t.Spot, fmt.Sprintf("restart is command or automatic, not %q", t.Text), "")
		}
		for _, w := range s.When.Words {
			if !slices.Contains(conditions, w.Text) {
				c.fail(w.Spot, fmt.Sprintf("%q is no condition", w.Text), "conditions are "+strings.Join(conditions, ", "))
			}
		}
		if s.Tries < 0 {
			c.fail(s.Spot, "tries cannot be negative", "")
		}
		texts := []y.String{s.Do, s.Act, s.See, s.IfNot}
		for _, e := range s.Shows.Entries {
			texts = append(texts, e.Value)
			if err := showable(e.Key); err != nil {
				c.fail(e.Spot, err.Error(), "")
			}
		}
		for _, t := range texts {
			if !t.Set() || !templates.MatchString(t.Text) {
				continue
			}
			if err := c.sayable(t.Text); err != nil {
				c.fail(t.Spot, "the wording cannot be used: "+strings.TrimPrefix(err.Error(), "template: step:"), "it may speak of "+spoken())
			}
		}
	}
	for _, m := range c.r.Remedies {
		if !m.Shows.Set() || !m.Do.Set() {
			c.fail(m.Spot, "a remedy needs shows: and do:", "")
		}
	}
	c.afterChecks(c.r.ChecksAfter)
	for i := range c.r.Releases {
		c.afterChecks(c.r.Releases[i].ChecksAfter)
	}
}

// sayable tries words against every model of the rulebook.
func (c *checker) sayable(text string) error {
	_, err := say(text, Wording{})
	for _, e := range c.r.Models.Entries {
		if err == nil {
			_, err = say(text, Wording{Model: e.Key, Device: "device", Component: "main", File: "main.img", Base: "main.img", Release: "1"})
		}
	}
	return err
}

// Blind lists the steps that wait for nothing and look at nothing: nobody can tell whether they
// did what they should.
func (r *Rulebook) Blind() []SequenceStep {
	var out []SequenceStep
	for _, s := range r.Sequence {
		if !BuiltIn(s.Step.Text) && !s.See.Set() && !s.Wait.Set() && len(s.Shows.Entries) == 0 && !s.MustShow.Set() && !s.MustNotShow.Set() && (s.Do.Set() || s.Act.Set()) {
			out = append(out, s)
		}
	}
	return out
}

// showable tells whether a capture can show a key: one of a device file, or next and active,
// which stand for the slot that starts after a restart and the one that runs.
func showable(key string) error {
	if key == "next" || key == "active" {
		return nil
	}
	return device.CheckKey(key)
}
