package plan

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"fitcheck/core/device"
	"fitcheck/core/digest"
	"fitcheck/core/fact"
	"fitcheck/core/fit"
	"fitcheck/core/truth"
)

// What a step has come to, as captures show it.
const (
	StepDone    = "done"
	StepRunning = "running" // the device works on it: wait
	StepFailed  = "failed"
	StepStop    = "stop"    // it is not safe to go on
	StepUnknown = "unknown" // the captures do not show it
)

// StepAnswer says whether one may go on behind a step.
type StepAnswer struct {
	Number  int
	Device  string // or the member that the step is taken on
	Step    Instruction
	Last    bool // no step comes after it
	Outcome string
	Percent int // of what runs; -1 where it is not told
	// Reason is why; Remedy is what helps, where the rulebook knows.
	Reason, Remedy string
	Shown          []Shown
}

// Shown is one proof of a step, held against the captures.
type Shown struct {
	Want, Found string
	// At is where it is shown.
	At    fact.Source
	Holds truth.Truth
	stops bool // where it does not hold, nobody may go on
}

// Captured are captures as they were read, and their lines.
type Captured struct {
	Draft *device.Draft
	Lines []device.TextLine
	// Before are the lines of captures from before; nil where there are none.
	Before []device.TextLine
	// Recognised says that a rulebook knows what the captures are.
	Recognised bool
}

// JudgeStep holds captures against a step of a runbook, which counts from 1.
func JudgeStep(t *Target, b *Runbook, number int, c Captured) (*StepAnswer, error) {
	var steps []Instruction
	for _, s := range b.Sections {
		steps = append(steps, s.Steps...)
	}
	if number < 1 || number > len(steps) {
		return nil, fmt.Errorf("the runbook has %d steps, and no step %d", len(steps), number)
	}
	a := judgeStep(t, number, steps[number-1], c)
	a.Last = number == len(steps)
	return a, nil
}

func judgeStep(t *Target, number int, in Instruction, c Captured) *StepAnswer {
	a := &StepAnswer{Number: number, Device: t.Device.Name.Text, Step: in, Percent: -1, Outcome: StepUnknown}
	if in.Member != "" {
		a.Device = in.Member
	}
	j := &stepJudge{t: t, c: c, in: in, told: map[string][]device.Finding{}}
	for _, f := range c.Draft.Findings {
		j.told[f.Member] = append(j.told[f.Member], f)
	}
	if len(c.Draft.Contradictions) > 0 {
		x := c.Draft.Contradictions[0]
		a.Reason = fmt.Sprintf("the captures say two things: %s: %s; give only what is of now", x.Label(), x.Text())
		return a
	}
	// Is it this device at all?
	w, known := j.witness(in.Member)
	identity := j.identity(in.Member)
	switch identity.Outcome {
	case fit.Misfit:
		a.Outcome, a.Reason = StepStop, identity.Because
		return a
	case fit.Unsettled:
		a.Reason = identity.Because
	}
	if !known {
		a.Reason = notShown(in.Member)
		return a
	}
	// What the device says of its own work comes before what it shows otherwise.
	if j.ownWork(w, a) {
		return a
	}
	for _, p := range in.Proofs {
		if p.Job {
			if v, ok := w.find("job.state"); ok && v.Text == "done" {
				a.Shown = append(a.Shown, Shown{Want: "the device says that its work is done", Found: v.Text, At: v.At, Holds: truth.Yes})
			}
			continue
		}
		for _, s := range j.hold(p) {
			if s.Holds != truth.Unknown || !slices.Contains(a.Shown, s) { // a member that is not shown is missed once, whatever is asked of it
				a.Shown = append(a.Shown, s)
			}
		}
	}
	a.decide(identity.Outcome)
	return a
}

// ownWork takes over what the device says of its work while that goes on, or has failed.
func (j *stepJudge) ownWork(w *witness, a *StepAnswer) (told bool) {
	if v, ok := w.find("job.state"); ok {
		switch v.Text {
		case "running", "scheduled":
			a.Outcome, a.Reason = StepRunning, "the device still works on it"
			if p, ok := w.find("job.percent"); ok {
				a.Percent, _ = strconv.Atoi(p.Text)
			}
			return true
		case "failed":
			a.Outcome, a.Reason = StepFailed, "the device says that it failed"
			texts := []string{}
			if r, ok := w.find("job.reason"); ok {
				a.Reason = r.Text
				texts = append(texts, r.Text)
			}
			for _, l := range j.c.Lines {
				texts = append(texts, l.Text)
			}
			if m := w.rules.RemedyFor(texts...); m != nil {
				a.Remedy = m.Do.Text
			}
			return true
		}
	}
	return false
}

// decide makes the outcome of what was held; identity is whether it is this device.
func (a *StepAnswer) decide(identity fit.Outcome) {
	unknown := a.Reason != ""
	for _, s := range a.Shown {
		switch {
		case s.Holds == truth.No && s.stops:
			a.Outcome, a.Reason = StepStop, fmt.Sprintf("%s; the capture shows %s", s.Want, s.Found)
			return
		case s.Holds == truth.No && identity == fit.Fits:
			a.Outcome, a.Reason = StepFailed, fmt.Sprintf("%s; the capture shows %s", s.Want, s.Found)
		case s.Holds != truth.Yes:
			unknown = true
		}
	}
	switch {
	case a.Outcome == StepFailed:
	case len(a.Shown) == 0:
		a.Reason = "nothing that a capture shows tells whether this step is done: look yourself"
	case unknown:
		if a.Reason == "" {
			var open []string
			for _, s := range a.Shown {
				if s.Holds == truth.Unknown {
					open = append(open, s.Want)
				}
			}
			a.Reason = "the capture does not show: " + strings.Join(open, "; ")
		}
	default:
		a.Outcome = StepDone
	}
}

// stepJudge holds the captures against one step.
type stepJudge struct {
	t    *Target
	c    Captured
	in   Instruction
	told map[string][]device.Finding
}

// box is a member, or the device itself.
func (j *stepJudge) box(member string) *device.Device {
	for _, b := range j.t.Device.All() {
		if b.Name.Text == member {
			return b
		}
	}
	return j.t.Device.All()[0]
}

// witness is what the captures say of a box; known is false for a member of which they say
// nothing.
func (j *stepJudge) witness(member string) (w *witness, known bool) {
	b := j.box(member)
	key, known := "", true
	if len(j.t.Device.Members) > 0 {
		if len(j.c.Draft.Members) > 0 {
			key = memberKey(b, j.c.Draft.Members, j.told)
			known = member == "" || key != ""
		} else if member != "" { // what is told without saying of whom is this one's only where it is shown to be
			known = j.whose(b, "", false).Outcome == fit.Fits
		}
	}
	if !known {
		return newWitness(j.t, b, nil, j.c.Draft), false
	}
	return newWitness(j.t, b, j.told[key], j.c.Draft), true
}

// identity is what the captures say of whose they are. Of a group, what they tell member by
// member must be of its members; what they tell without saying of whom, of one of them or of the
// group by its name.
func (j *stepJudge) identity(member string) fit.Check {
	boxes := j.t.Device.All()
	switch {
	case len(j.t.Device.Members) == 0:
		return j.whose(boxes[0], "", false)
	case len(j.c.Draft.Members) == 0:
		best := j.whose(boxes[0], "", false)
		for _, b := range boxes[1:] {
			if c := j.whose(b, "", false); c.Outcome.Rank() < best.Outcome.Rank() {
				best = c
			}
		}
		if c := j.whose(j.t.Device, "", false); c.Outcome == fit.Fits {
			best = c
		}
		if member != "" && best.Outcome == fit.Fits && j.whose(j.box(member), "", false).Outcome != fit.Fits {
			return fit.Check{Outcome: fit.Unsettled, Because: notShown(member)}
		}
		return best
	}
	out := fit.Check{Outcome: fit.Unsettled, Because: "the captures show none of its members"}
	seen := false
	for _, b := range boxes {
		if member != "" && b.Name.Text != member {
			continue
		}
		key := memberKey(b, j.c.Draft.Members, j.told)
		if key == "" {
			continue
		}
		if c := j.whose(b, key, true); !seen || c.Outcome.Rank() > out.Outcome.Rank() {
			seen, out = true, c
		}
	}
	if !seen && member != "" {
		out.Because = notShown(member)
	}
	return out
}

func notShown(member string) string { return "the captures do not show the member " + member }

// whose is the worst of what the findings under a key say of a box.
func (j *stepJudge) whose(b *device.Device, key string, group bool) fit.Check {
	resets := j.in.Hop > 0 && slices.ContainsFunc(j.t.Steps[:min(j.in.Hop, len(j.t.Steps))], func(s Step) bool { return s.ResetsConfig })
	var out fit.Check
	for _, c := range newWitness(j.t, b, j.told[key], j.c.Draft).identity(b, group, key, resets) {
		if out.Because == "" || c.Outcome.Rank() > out.Outcome.Rank() {
			out = c
		}
	}
	return out
}

func (j *stepJudge) hold(p Proof) []Shown {
	member := j.in.Member
	if p.Member != "" {
		member = p.Member
	}
	w, known := j.witness(member)
	of := ""
	if p.Member != "" {
		of = p.Member + ": "
	}
	switch {
	case !known:
		return []Shown{{Want: of + "it is there"}}
	case p.Key == Next:
		return j.next(w, of, p)
	case p.Key == Active:
		return []Shown{j.active(w, of, p.Want)}
	case p.Key != "":
		return []Shown{j.value(w, of, p)}
	case p.Line != "":
		s := Shown{Want: fmt.Sprintf("the console shows %q", p.Line)}
		for _, l := range j.c.Lines {
			if says(l.Text, p.Line) {
				s.Holds, s.Found, s.At = truth.Yes, l.Text, l.At
				break
			}
		}
		return []Shown{s}
	case p.MustShow != nil || p.MustNotShow != nil:
		return []Shown{j.pattern(p)}
	case len(p.Sums) > 0:
		return []Shown{j.sums(p)}
	case p.File != "":
		return []Shown{j.stored(w, p)}
	}
	return nil
}

// next: what starts after a restart is the slot that was written, and that choice is stored.
func (j *stepJudge) next(w *witness, of string, p Proof) []Shown {
	want := p.Want
	s := Shown{Want: fmt.Sprintf("%sslot %s starts next", of, want), stops: true}
	for _, f := range w.told {
		name, next := strings.CutSuffix(strings.TrimPrefix(f.Key, "slots."), ".next")
		if !next || !strings.HasPrefix(f.Key, "slots.") || f.Guess() || len(f.Values) == 0 || f.Values[0].Text != "true" {
			continue
		}
		if s.At.Given() { // two of them: which is not known
			s.Found, s.Holds = s.Found+" and slot "+name, truth.Unknown
			break
		}
		s.Found, s.At, s.Holds = "slot "+name, f.Values[0].At, truth.Of(strings.EqualFold(name, want))
	}
	out := []Shown{s}
	if v, ok := w.find("start.saved"); ok && !p.Unsaved {
		out = append(out, Shown{Want: of + "the choice of what starts next is stored", Found: map[string]string{"true": "that it is", "false": "that it is not"}[v.Text], At: v.At, Holds: truth.Of(v.Text == "true"), stops: true})
	}
	return out
}

func (j *stepJudge) active(w *witness, of, want string) Shown {
	s := Shown{Want: fmt.Sprintf("%sslot %s runs", of, want)}
	if slot, at, _, ok := w.active(w.promised); ok {
		s.Found, s.At, s.Holds = "slot "+slot, at.At, truth.Of(strings.EqualFold(slot, want))
	}
	return s
}

// value holds one key against what it must be; versions by their scheme.
func (j *stepJudge) value(w *witness, of string, p Proof) Shown {
	s := Shown{Want: fmt.Sprintf("%s%s is %s", of, strings.TrimPrefix(p.Key, "installed."), p.Want)}
	component, installed := strings.CutPrefix(p.Key, "installed.")
	v, ok := w.find(p.Key)
	if installed {
		var clash *device.Value
		if v, ok, clash, _ = w.version(component); clash != nil {
			return s
		}
	}
	if !ok {
		return s
	}
	s.Found, s.At = v.Text, v.At
	if p.Component != "" || installed {
		s.Holds = w.rules.Scheme(cmp.Or(p.Component, component)).Same(v.Text, p.Want)
		return s
	}
	s.stops = strings.HasPrefix(p.Key, "slots.") || p.Key == "start.saved"
	s.Holds = truth.Of(strings.EqualFold(strings.TrimSpace(v.Text), strings.TrimSpace(p.Want)))
	return s
}

func (j *stepJudge) pattern(p Proof) Shown {
	re, must := p.MustShow, true
	if re == nil {
		re, must = p.MustNotShow, false
	}
	s := Shown{Want: p.Says}
	if s.Want == "" {
		s.Want = map[bool]string{true: "the console shows ", false: "the console does not show "}[must] + re.String()
	}
	if l, ok := p.find(j.c); ok {
		s.Found, s.At = l.Text, l.At
	}
	switch {
	case s.At.Given() && !must && p.NewOnly && j.c.Before == nil:
		s.Holds = truth.Unknown // it may have been there before
	case s.At.Given():
		s.Holds = truth.Of(must)
	case !j.c.Recognised:
	default:
		s.Holds = truth.Of(!must)
		if must {
			s.Found = "no such line"
		}
	}
	return s
}

// hexadecimal is what may be a digest.
var hexadecimal = regexp.MustCompile(`\b[0-9A-Fa-f]{8,128}\b`)

// sums: a line shows one of the digests. Another of the same length, behind the file's name and
// on no line of another file, is what the device computed of something else; where both are
// shown, one may be what was typed, and nothing is known.
func (j *stepJudge) sums(p Proof) Shown {
	s := Shown{Want: "the digest of " + p.File + " is the one that was planned", stops: true}
	lengths := map[int]bool{}
	for _, sum := range p.Sums {
		lengths[len(sum.Hex)] = true
	}
	about, other := false, "" // about: the file has been named
	for _, l := range j.c.Lines {
		named := strings.Contains(l.Text, p.File)
		about = about || named
		for _, h := range hexadecimal.FindAllString(l.Text, -1) {
			i := slices.IndexFunc(p.Sums, func(sum digest.Sum) bool { return strings.EqualFold(h, sum.Hex) })
			switch {
			case i >= 0 && !s.At.Given():
				s.Found, s.At = fmt.Sprintf("%s %s", p.Sums[i].Algorithm, h), l.At
			case i < 0 && lengths[len(h)] && about && len(h) >= 32 && (named || !anotherFile(l.Text)) && other == "":
				other = h
				if !s.At.Given() {
					s.At = l.At
				}
			}
		}
	}
	switch {
	case s.Found != "" && other != "":
		s.Want += fmt.Sprintf(" (the captures show %s, too: give only what the device answered)", other)
	case s.Found != "":
		s.Holds = truth.Yes
	case other != "":
		s.Found, s.Holds = other, truth.No
	}
	return s
}

// fileName is a word with an ending that begins with a letter.
var fileName = regexp.MustCompile(`[\w-]\.[A-Za-z]\w+`)

// anotherFile tells whether a line that does not name a file names another.
func anotherFile(line string) bool { return fileName.MatchString(line) }

// denied are words that turn a sentence round.
var denied = regexp.MustCompile(`(?i)\b(not|no|never|without|fail\w*|cannot|\w+n't|error\w*|un\w*able)\b`)

// says tells whether a line holds a text as whole words, and no word beside it that turns it
// round: "not all images agree" does not say that all images agree.
func says(line, text string) bool {
	at := strings.Index(strings.ToLower(line), strings.ToLower(text))
	if at < 0 || text == "" || len(line) < at+len(text) {
		return false
	}
	before, after := line[:at], line[at+len(text):]
	inWord := func(a, b string) bool { // two texts that meet within a word
		x, _ := utf8.DecodeLastRuneInString(a)
		z, _ := utf8.DecodeRuneInString(b)
		word := func(r rune) bool { return unicode.IsLetter(r) || unicode.IsDigit(r) }
		return a != "" && b != "" && word(x) && word(z)
	}
	return !inWord(before, text) && !inWord(text, after) && !denied.MatchString(before) && !denied.MatchString(after)
}

// stored: the file lies on the device, with its size. Where no pattern reads the device's files,
// a line must show the size that names the file, or that follows its name and names no other.
func (j *stepJudge) stored(w *witness, p Proof) Shown {
	s := Shown{Want: fmt.Sprintf("%s lies on the device with %d bytes", p.File, p.Size)}
	if v, ok := w.find("files." + p.File + ".size"); ok {
		s.Found, s.At, s.Holds = v.Text+" bytes", v.At, truth.Of(v.Text == strconv.FormatInt(p.Size, 10))
		return s
	}
	size := regexp.MustCompile(`\b` + strconv.FormatInt(p.Size, 10) + `\b`)
	about := false
	for _, l := range j.c.Lines {
		named := strings.Contains(l.Text, p.File)
		about = about || named
		plain := strings.NewReplacer(",", "", "_", "").Replace(l.Text)
		if size.MatchString(plain) && (named || about && !anotherFile(l.Text)) {
			s.Found, s.At, s.Holds = l.Text, l.At, truth.Yes
			return s
		}
	}
	return s
}
