package plan

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/device"
	"fitcheck/core/duration"
	"fitcheck/core/fact"
	"fitcheck/core/fit"
	"fitcheck/core/fit/check"
	"fitcheck/core/image"
	"fitcheck/core/path"
	"fitcheck/core/rulebook"
	"fitcheck/core/survey"
	y "fitcheck/core/yamlfile"
)

// Recovery is what can be done for a device that does not start.
type Recovery struct {
	Device  *device.Device
	Rule    *rulebook.Recovery // nil when the rulebook knows none
	Verdict fit.Outcome
	Why     string // in one sentence
	Chosen  *RecoveryImage
	Others  []RecoveryImage
	Slots   []string // other images on the device, in words, to be tried first
	// slotNames are the names of those slots.
	slotNames []string
	Steps     []Instruction
	Checks    []fit.Check // about the recovery as such
	Nothing   bool        // nothing is left that software can do
	NotAsked  []string    // what could not be judged and why
}

// RecoveryImage is an image that may be pushed.
type RecoveryImage struct {
	Survey    *survey.Survey
	Item      *survey.Item
	Component string
	Version   string
	Verdict   fit.Outcome
	Checks    []fit.Check
}

// Address is the item's.
func (r *RecoveryImage) Address() string { return r.Item.Address }

// Recover finds which image the boot loader of a device takes, and the steps.
func Recover(d *device.Device, rules Rules, packages []*survey.Survey, o fit.Options) *Recovery {
	rb := rules(d.Model.Text)
	r := &Recovery{Device: d, Verdict: fit.Fits}
	box := path.NewBox(d, rb)
	switch {
	case rb == nil:
		r.Verdict, r.Why = fit.Unsettled, "no rulebook knows the model, so nobody knows what its boot loader takes"
		return r
	case d.State.Text == "running":
		r.Verdict, r.Why = fit.Misfit, fmt.Sprintf("%s says that the device runs (state: running): recovery is for one that does not start", d.File)
		return r
	}
	r.slots(d, rb, box)
	var unsure bool
	r.Rule, unsure = rb.RecoveryFor(box.Model, box.Revision)
	switch {
	case unsure:
		r.Verdict, r.Why = fit.Unsettled, fmt.Sprintf("recovery of %s differs by hardware revision, and the device's is not known; read it off the label and add revision: to %s", box.Model, d.File)
		return r
	case r.Rule == nil && len(r.Slots) > 0:
		r.Why = "the rulebook knows no way through the boot loader; what is stored on the device is what can be tried"
		r.steps(rb)
		return r
	case r.Rule == nil:
		r.Verdict, r.Nothing = fit.Misfit, true
		r.Why = fmt.Sprintf("%s has no recovery for %s, and no other image is known to be stored on the device: nothing is left that software can do; ask the maker", rb.File, strings.TrimSpace(box.Model+" "+box.Revision))
		return r
	}
	for _, s := range packages {
		r.weigh(s, rules, box, o)
	}
	slices.SortStableFunc(r.Others, func(a, b RecoveryImage) int {
		return cmp.Or(bit(check.AnyStands(a.Checks))-bit(check.AnyStands(b.Checks)), rank(a.Verdict)-rank(b.Verdict), misfits(a.Checks)-misfits(b.Checks), newerFirst(rb, a, b), strings.Compare(a.Item.Address, b.Item.Address))
	})
	if len(r.Others) == 0 {
		r.Verdict, r.Why = fit.Misfit, "no image that could be meant for it is in what was given"
	} else {
		r.Chosen = &r.Others[0]
		r.Others = r.Others[1:]
		r.Verdict = r.Chosen.Verdict
		switch r.Verdict {
		case fit.Fits:
			r.Why = fmt.Sprintf("the boot loader takes %s", r.Chosen.Address())
		case fit.Misfit:
			r.Why = fmt.Sprintf("nothing given is an image that the boot loader takes; %s comes nearest", r.Chosen.Address())
		default:
			r.Why = fmt.Sprintf("whether the boot loader may be given %s is not settled", r.Chosen.Address())
		}
	}
	r.steps(rb)
	return r
}

func rank(o fit.Outcome) int {
	return slices.Index([]fit.Outcome{fit.Fits, fit.Unsettled, fit.Misfit}, o)
}

func bit(b bool) int {
	if b {
		return 1
	}
	return 0
}

func misfits(all []fit.Check) int {
	n := 0
	for _, c := range all {
		if c.Outcome == fit.Misfit {
			n++
		}
	}
	return n
}

func newerFirst(rb *rulebook.Rulebook, a, b RecoveryImage) int {
	s := rb.Scheme(a.Component)
	va, err1 := s.Parse(a.Version)
	vb, err2 := s.Parse(b.Version)
	if err1 != nil || err2 != nil {
		return 0
	}
	return s.Compare(vb, va)
}

// slots lists what is stored on the device: what ran last first, then the others, the
// newest first, and what was to start next, and did not, last. What was written there
// since, nobody told.
func (r *Recovery) slots(d *device.Device, rb *rulebook.Rulebook, box *path.Box) {
	scheme := rb.Scheme(rb.Main(box.Family))
	type stored struct {
		slot, version string
		ran, next     bool
	}
	var all []stored
	for _, s := range d.Slots {
		if _, guessed := d.Guessed("slots." + s.Name.Text); s.Main.Set() && !guessed {
			all = append(all, stored{s.Name.Text, s.Main.Text, s.Active, s.Next && !s.Active})
		}
	}
	slices.SortStableFunc(all, func(a, b stored) int {
		rank := func(s stored) int {
			switch {
			case s.ran:
				return 0
			case s.next:
				return 2
			}
			return 1
		}
		if d := rank(a) - rank(b); d != 0 {
			return d
		}
		va, err1 := scheme.Parse(a.version)
		vb, err2 := scheme.Parse(b.version)
		if err1 != nil || err2 != nil {
			return 0
		}
		return scheme.Compare(vb, va)
	})
	for _, s := range all {
		text := fmt.Sprintf("start it from slot %s, which by the device file holds %s", s.slot, s.version)
		if s.ran {
			text += " and ran last"
		} else if s.next {
			text += " and was to start next"
		}
		r.Slots = append(r.Slots, text)
		r.slotNames = append(r.slotNames, s.slot)
	}
}

// weigh judges every image of a package.
func (r *Recovery) weigh(s *survey.Survey, rules Rules, box *path.Box, o fit.Options) {
	for _, it := range s.Items {
		if it.Role != "" || it.Part || it.Within || !it.Firmware() && !slices.ContainsFunc(r.Rule.Accepts.Formats, func(t y.String) bool { return t.Text == it.Kind }) {
			continue
		}
		component := componentOf(it, box)
		checks, version, ok := fit.Image(r.Device, fit.Rulebooks(rules), s, it.Address, component, o)
		if !ok {
			continue
		}
		one := RecoveryImage{Survey: s, Item: it, Component: component, Version: version}
		lines := append(r.accepts(it, component, box.Rules), checks...)
		one.Checks = check.Sort(check.New(box.Member, s, check.Options{}).Guessed(lines, "recovery"))
		one.Verdict = worst(one.Checks)
		r.Others = append(r.Others, one)
	}
}

// componentOf is what an image is for, by its manifest or header; the main
// component where nothing says so.
func componentOf(it *survey.Item, box *path.Box) string {
	main := box.Rules.Main(box.Family)
	for _, kind := range []fact.Kind{fact.Manifest, fact.FileName, fact.Header} {
		if w, ok := it.Witness(kind); ok {
			for _, f := range w.About(fact.Component) {
				return strings.ToLower(f.Value)
			}
		}
	}
	return main
}

// accepts holds an image against what the boot loader takes.
//
// In one piece: what the boot loader asks of an image, one after the other.
func (r *Recovery) accepts(it *survey.Item, component string, rb *rulebook.Rulebook) []fit.Check {
	a := r.Rule.Accepts
	rule := func(text string) fit.Cited {
		if doc := rb.Document(r.Rule.Source); doc != "" {
			text += ", " + doc
		}
		return fit.Cited{Side: fit.OfRule, Value: text, Source: rb.Source(r.Rule.Spot)}
	}
	content := func(text string) fit.Cited {
		return fit.Cited{Side: fit.OfPackage, Value: text, Source: fact.Source{Kind: fact.Content, File: it.Address}}
	}
	var formats, components []string
	for _, t := range a.Formats {
		formats = append(formats, t.Text)
	}
	for _, t := range a.Components {
		components = append(components, t.Text)
	}
	inner := innerFormat(it.Image, formats)
	wantWrapped := a.Wrapped != nil && *a.Wrapped
	wish := strings.Join(formats, " or ")
	if wish == "" {
		wish = "any format"
	}
	direct := len(formats) == 0 || slices.Contains(formats, it.Kind)
	both := []fit.Cited{rule("accepts " + wish), content(it.Kind)}
	var format fit.Check
	switch {
	case wantWrapped && !direct && inner != "":
		format = formatWrapped.Line("", inner, it.Kind)
	case wantWrapped && direct && len(formats) > 0:
		format = formatBare.Line("", it.Kind)
	case direct:
		format = formatTaken.Line("", it.Kind)
	case inner != "":
		format = formatInside.Line("", inner, it.Kind, inner)
	default:
		format = formatOther.Line("", wish, it.Kind)
	}
	out := []fit.Check{sides(format, wish, it.Kind, both...)}
	if len(components) > 0 {
		want := strings.Join(components, " or ")
		l := takesComponent.Line("", component)
		if !slices.Contains(components, component) {
			l = takesOther.Line("", want, component)
		}
		out = append(out, sides(l, want, component, rule("accepts "+want), content(component)))
	}
	if largest, why := r.Rule.Takes(); largest > 0 {
		l := sizeTaken.Line("")
		if it.Size > largest {
			l = sizeTooLarge.Line("", y.FormatSize(it.Size), y.FormatSize(largest), why)
		}
		at := r.Rule.Spot
		if largest == a.Largest.Bytes {
			at = a.Largest.Spot
		}
		out = append(out, sides(l, "at most "+y.FormatSize(largest), y.FormatSize(it.Size), fit.Cited{Side: fit.OfRule, Value: why, Source: rb.Source(at)}, content(y.FormatSize(it.Size))))
	}
	return out
}

// What only a recovery asks.
var (
	formatCheck = check.Register(&check.Check{Name: "format", Order: 410, Of: "recover", Doc: "Is it of a format that the boot loader takes, wrapped or not as it wants it?"})
	takesCheck  = check.Register(&check.Check{Name: "component", Order: 420, Of: "recover", Doc: "Is it of a component that the boot loader takes?"})
	sizeCheck   = check.Register(&check.Check{Name: "size", Order: 430, Of: "recover", Doc: "Is it of a size that the boot loader takes and the transfer carries?"})

	formatTaken    = formatCheck.Code("taken", fit.Fits, "the boot loader takes the format", "the boot loader takes %s", "")
	formatWrapped  = formatCheck.Code("wrapped_as_wanted", fit.Fits, "it is wrapped, as the boot loader wants it", "it is %s wrapped in %s, as the boot loader wants it", "")
	formatBare     = formatCheck.Code("bare", fit.Misfit, "it is bare, and the boot loader wants it wrapped", "it is the bare %s, and the boot loader takes it only with another header around it", "take the image as the maker packs it for the boot loader")
	formatInside   = formatCheck.Code("wrapped", fit.Misfit, "it is wrapped, and the boot loader takes only the bare image", "it is %s wrapped in %s: the image for an upgrade under the running system; the boot loader takes only the bare %s", "get the maker's image for recovery; do not cut the wrapping off by hand")
	formatOther    = formatCheck.Code("other", fit.Misfit, "it is of a format that the boot loader does not take", "the boot loader takes %s; this is %s: an image for an upgrade under the running system, perhaps", "get the maker's image for recovery")
	takesComponent = takesCheck.Code("taken", fit.Fits, "the boot loader takes the component", "it is the %s", "")
	takesOther     = takesCheck.Code("other", fit.Misfit, "the boot loader takes another component", "the boot loader takes %s; this is %s", "push the image of that component")
	sizeTaken      = sizeCheck.Code("taken", fit.Fits, "the boot loader takes images of its size", "the boot loader takes images of its size", "")
	sizeTooLarge   = sizeCheck.Code("too_large", fit.Misfit, "it is larger than the boot loader takes, or the transfer carries", "it is %s; at most %s goes over (%s)", "get a smaller image for recovery")
)

// innerFormat finds one of some formats among what is inside an image.
func innerFormat(m *image.Image, formats []string) string {
	if m == nil {
		return ""
	}
	for _, p := range m.Parts {
		if slices.Contains(formats, p.Kind) {
			return p.Kind
		}
		if f := innerFormat(p.Image, formats); f != "" {
			return f
		}
	}
	return ""
}

// steps writes what to do, in the order in which to try it.
func (r *Recovery) steps(rb *rulebook.Rulebook) {
	add := func(i Instruction) { r.Steps = append(r.Steps, i) }
	x := rulebook.Wording{Device: r.Device.Name.Text, Model: r.Device.Model.Text}
	for i, s := range r.Slots {
		in := Instruction{Text: "first " + s + ", from the boot loader's prompt."}
		if i > 0 {
			in.Text = "else " + s + "."
		}
		x.Active = r.slotNames[i]
		if said, ok := rb.Say("back", x); ok && i == 0 {
			in.Commands = []string{strings.TrimSpace(said)}
		}
		in.See = []string{"the system starts, and the console shows its version"}
		add(in)
	}
	e := r.Rule
	if e == nil || r.Chosen == nil || r.Verdict == fit.Misfit {
		return
	}
	name := r.Name()
	if h := e.Network.Host; h.Set() {
		add(Instruction{Text: fmt.Sprintf("give this computer the address %s, on the port that leads to the device and nothing else.", h.Text)})
	}
	for _, in := range Entering(e) {
		add(in)
	}
	within := ""
	if e.Transfer.Within.Set() {
		within = fmt.Sprintf(" It waits for %s only.", duration.Text(e.Transfer.Within.Time))
	}
	to := cmp.Or(e.Network.Device.Text, "the device")
	send := Instruction{Text: fmt.Sprintf("send %s to %s by TFTP, octet mode, port %d, as %s.%s", r.Chosen.Item.Address, to, r.Port(), name, within), Warn: true}
	if e.Transfer.Direction.Text == "serve" {
		send.Text = fmt.Sprintf("offer %s by TFTP, octet mode, port %d, as %s; the boot loader fetches it.%s", r.Chosen.Item.Address, r.Port(), name, within)
	}
	send.See = []string{fmt.Sprintf("%d bytes go over, sha256 %s", r.Chosen.Item.Size, r.Chosen.Item.Digests.Of("sha256"))}
	send.Back = "when nothing takes it, the boot loader did not wait yet, or no longer: begin again"
	add(send)
	after := Instruction{Text: "wait, and keep the power on.", Warn: true}
	if w := e.Afterwards.Wait; w.Set() {
		after.Text = fmt.Sprintf("wait %s, and keep the power on: it writes the image and restarts.", duration.Text(w.Time))
	}
	if e.Afterwards.Note.Set() {
		after.See = append(after.See, e.Afterwards.Note.Text)
	}
	after.See = append(after.See, signs(e.Afterwards.Signs, "the new system answers")...)
	after.Back = "begin again; when that fails twice, nothing is left that software can do: ask the maker"
	add(after)
	load := "load the settings that were saved; the image brings none"
	if r.crosses(rb) {
		load = "set it up anew: the settings that were saved are of another image family, and are never loaded into this one"
	}
	add(Instruction{Text: "afterwards, first of all: capture what the console says, and " + load + ".", See: []string{fmt.Sprintf("it runs %s", cmp.Or(r.Chosen.Version, "the version of the image"))}})
}

// crosses tells whether the image is of another family than the device ran.
func (r *Recovery) crosses(rb *rulebook.Rulebook) bool {
	box := path.NewBox(r.Device, rb)
	for _, w := range r.Chosen.Item.Witnesses {
		for _, f := range w.About(fact.Family) {
			if box.Family != "" && !strings.EqualFold(f.Value, box.Family) {
				return true
			}
		}
	}
	if rel := rb.FindRelease(r.Chosen.Version, box.Family, box.Model, box.Revision); rel != nil && box.Family != "" {
		return !rel.OfFamily(box.Family)
	}
	return false
}

// Entering is what a person does so that the boot loader waits: the attempts in
// their order, the mildest first.
func Entering(e *rulebook.Recovery) []Instruction {
	seen := signs(e.Signs, "the boot loader waits")
	seen = append(seen, signs(e.NotYet, "NOT yet: something else answers")...)
	if !e.Enter.Set() {
		return []Instruction{{Text: "bring the boot loader to wait: switch the device off and on.", See: seen}}
	}
	var out []Instruction
	for i, a := range e.Enter.All {
		in := Instruction{Text: a.Do.Text, See: seen}
		if i > 0 {
			in.Text = "when it still does not wait: " + a.Do.Text
		}
		if a.Tries > 1 {
			in.Text += fmt.Sprintf(" (up to %d times)", a.Tries)
		}
		if a.Signs.Set() {
			in.See = append([]string{a.Signs.Text}, in.See...)
		}
		if a.Risk.Set() {
			in.Text += "; risk: " + a.Risk.Text
			in.Warn = true
		}
		out = append(out, in)
	}
	return out
}

// Port is the UDP port of the transfer.
func (r *Recovery) Port() int { return cmp.Or(r.Rule.Transfer.Port, 69) }

// Name is the name under which the image goes over.
func (r *Recovery) Name() string {
	if t := r.Rule.Transfer.File; t.Set() {
		return t.Text
	}
	address := r.Chosen.Item.Address
	return address[strings.LastIndexAny(address, ":/")+1:]
}

func signs(s rulebook.Signs, what string) []string {
	var out []string
	if s.PingTTL > 0 {
		out = append(out, fmt.Sprintf("%s: replies to ping have a time to live of %d", what, s.PingTTL))
	}
	if s.Lamp.Set() {
		out = append(out, fmt.Sprintf("%s: %s", what, s.Lamp.Text))
	}
	return out
}
