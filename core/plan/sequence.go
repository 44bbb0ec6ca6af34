package plan

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"fitcheck/core/device"
	"fitcheck/core/digest"
	"fitcheck/core/duration"
	"fitcheck/core/rulebook"
	y "fitcheck/core/yamlfile"
)

// place is where in the night a step of a sequence is taken: at a hop, on a box, for an image.
type place struct {
	hop    int // from 0
	box    *device.Device
	on     string // begins the text of a step that is taken on one member
	image  *picked
	step   *rulebook.SequenceStep
	images []picked // of the box at this hop
	boxes  []*device.Device
	after  *device.Device
	how    rulebook.Install
	all    bool // it is one step for all boxes
}

// sequence writes the steps of one hop, in the order in which the rulebook has them.
//
// Steps that are taken on each member are taken member by member, up to where members are
// restarted: so that all of them hold the image before the first is without service. Where
// they restart one after the other (rolling), a member goes through all of them before the
// next; where they restart together, that is one step for all.
func (w *writer) sequence(hop int, boxes []*device.Device, group bool) []Instruction {
	if len(boxes) == 0 {
		return nil
	}
	st := &w.t.Steps[hop]
	rb := w.rules(boxes[0])
	p := place{hop: hop, boxes: boxes, how: rb.Installing(st.Family), after: After(w.t.Device, w.t.Rules, w.t.Hops()[:min(hop+1, len(w.t.Hops()))])}
	var steps []rulebook.SequenceStep
	for _, s := range rb.Ordered() {
		if w.applies(&s, hop, boxes, group) {
			steps = append(steps, s)
		}
	}
	joining, others := apart(boxes)
	out := w.alone(p, steps, joining)
	if p.boxes = others; len(others) == 0 {
		return out
	}
	boxes = others
	for len(steps) > 0 {
		n := 1
		if perMember(&steps[0]) {
			for n < len(steps) && perMember(&steps[n]) && (p.how.Rolling() || !beginsRestart(&steps[n-1], &steps[n])) {
				n++
			}
			if p.how.Members.Text == rulebook.MembersTogether && slices.ContainsFunc(steps[:n], func(s rulebook.SequenceStep) bool { return s.Step.Text == "restart" }) {
				out = append(out, w.block(p, steps[:n], group, true)...)
			} else {
				out = append(out, w.block(p, steps[:n], group, false)...)
			}
		} else {
			q := p
			q.step, q.box = &steps[0], boxes[0]
			if steps[0].Each.Text != "once" || hop == 0 {
				out = append(out, w.instruction(q)...)
			}
		}
		steps = steps[n:]
	}
	return out
}

// apart tells the members that are yet to be let in from those that carry the service.
func apart(boxes []*device.Device) (joining, others []*device.Device) {
	for _, b := range boxes {
		if b.Joining {
			joining = append(joining, b)
		} else {
			others = append(others, b)
		}
	}
	return joining, others
}

// alone writes what is done on members that are yet to be let in: each goes through all steps
// by itself, before any other is touched.
func (w *writer) alone(p place, steps []rulebook.SequenceStep, joining []*device.Device) []Instruction {
	var out []Instruction
	for _, b := range joining {
		out = append(out, Instruction{Step: "apart", Hop: p.hop + 1, Member: b.Name.Text,
			Text: fmt.Sprintf("%s: keep it apart from the group until it runs %s; it comes first, alone.", b.Name.Text, w.t.Steps[p.hop].Release),
			Back: "do not let it in before it runs that"})
		p := p
		p.boxes = []*device.Device{b}
		for _, run := range inARow(steps) {
			if perMember(&run[0]) {
				out = append(out, w.block(p, run, true, false)...)
				continue
			}
			p.step, p.box, p.on = &run[0], b, b.Name.Text+": "
			if run[0].Each.Text != "once" || p.hop == 0 {
				out = append(out, w.instruction(p)...)
			}
		}
	}
	return out
}

// inARow parts steps into those that are taken on each member in a row, and single others.
func inARow(steps []rulebook.SequenceStep) [][]rulebook.SequenceStep {
	var out [][]rulebook.SequenceStep
	for i := 0; i < len(steps); {
		n := i + 1
		for perMember(&steps[i]) && n < len(steps) && perMember(&steps[n]) {
			n++
		}
		out = append(out, steps[i:n])
		i = n
	}
	return out
}

func perMember(s *rulebook.SequenceStep) bool {
	return s.Each.Text == "member" || s.Each.Text == "component"
}

// beginsRestart tells where the part of a hop begins in which boxes are restarted.
func beginsRestart(before, s *rulebook.SequenceStep) bool {
	restarting := func(s *rulebook.SequenceStep) bool {
		return slices.Contains([]string{"activate", "save", "restart"}, s.Step.Text)
	}
	return restarting(s) && !restarting(before)
}

// block writes steps that are taken on each member. together says that what restarts them is
// one step for all.
func (w *writer) block(p place, steps []rulebook.SequenceStep, group, together bool) []Instruction {
	var out []Instruction
	for _, b := range p.boxes {
		p := p
		p.box, p.images = b, w.chosen(p.hop, b)
		if group {
			p.on = b.Name.Text + ": "
		}
		for i := 0; i < len(steps); {
			p.step = &steps[i]
			if together && p.step.Step.Text == "restart" {
				i++
				continue
			}
			if p.step.Each.Text != "component" {
				out = append(out, w.instruction(p)...)
				i++
				continue
			}
			n := i + 1 // steps that belong together image by image: what is fetched is compared at once
			for n < len(steps) && steps[n].Each.Text == "component" && steps[n].Step.Text != "install" {
				n++
			}
			for k := range p.images {
				for j := i; j < n; j++ {
					q := p
					q.step, q.image = &steps[j], &p.images[k]
					out = append(out, w.instruction(q)...)
				}
			}
			i = n
		}
	}
	if together {
		for i := range steps {
			if steps[i].Step.Text == "restart" {
				q := p
				q.step, q.box, q.all = &steps[i], p.boxes[0], true
				q.on = "all members together: "
				out = append(out, w.instruction(q)...)
			}
		}
	}
	return out
}

// applies tells whether a step is taken at a hop.
func (w *writer) applies(s *rulebook.SequenceStep, hop int, boxes []*device.Device, group bool) bool {
	st := &w.t.Steps[hop]
	for _, c := range s.When.Words {
		holds := false
		switch c.Text {
		case "crosses_family":
			holds = st.Crosses()
		case "resets_config":
			holds = st.ResetsConfig
		case "downward":
			holds = w.downward(st, boxes[0])
		case "group":
			holds = group
		case "slotted":
			for _, b := range boxes {
				holds = holds || slices.ContainsFunc(w.chosen(hop, b), func(p picked) bool { return p.slot != "" })
			}
		case "first_hop":
			holds = hop == 0
		case "last_hop":
			holds = hop == len(w.t.Steps)-1
		case "managed":
			holds = boxes[0].ManagedBy.Set()
		}
		if !holds {
			return false
		}
	}
	return true
}

// downward tells whether a hop leads to an older main version.
func (w *writer) downward(st *Step, b *device.Device) bool {
	rb := w.rules(b)
	scheme := rb.Scheme(rb.Main(st.Family))
	from, err := scheme.Parse(st.From)
	to, err2 := scheme.Parse(st.To)
	return err == nil && err2 == nil && !st.Crosses() && scheme.Compare(to, from) < 0
}

// says fills in what the words of a step speak of.
func (w *writer) says(p place) rulebook.Wording {
	x := w.wording(p.box, &w.t.Steps[p.hop])
	x.Root, x.Manager = p.how.Root.Text, p.box.ManagedBy.Text
	if f, ok := w.rules(p.box).Family(w.t.Steps[p.hop].Family); ok {
		x.After.Address, x.After.Login = f.FactoryReset.Address.Text, f.FactoryReset.Login.Text
	}
	var names []string
	for _, c := range p.images {
		names = append(names, path.Base(c.file.Name))
		if c.slot != "" {
			x.Slot = c.slot
		}
	}
	x.Files = strings.Join(names, " ")
	image := p.image
	if image == nil && len(p.images) > 0 { // of several the one that goes into a slot
		image = &p.images[0]
		if i := slices.IndexFunc(p.images, func(c picked) bool { return c.slot != "" }); i >= 0 {
			image = &p.images[i]
		}
	}
	if c := image; c != nil {
		sum := c.file.Digests.Of
		x.File, x.Base, x.Component, x.Size = c.file.Name, path.Base(c.file.Name), c.component, c.file.Size
		if c.slot != "" || p.image != nil {
			x.Slot = c.slot
		}
		x.Digest, x.SHA256, x.SHA512, x.SHA1, x.MD5, x.CRC32 = sum(digest.SHA256), sum(digest.SHA256), sum(digest.SHA512), sum(digest.SHA1), sum(digest.MD5), sum(digest.CRC32)
	}
	return x
}

// instruction writes one step at one place; none where it makes no sense there.
//
// In one piece: what a step may say, one after the other.
func (w *writer) instruction(p place) []Instruction {
	x := w.says(p)
	s := p.step
	var in Instruction
	if build, ok := builtIns[s.Step.Text]; ok {
		made := build(w, p, x)
		if made == nil {
			return nil
		}
		in = *made
		if !s.Do.Set() {
			w.say(&in, p.box, s.Step.Text, x)
		}
	} else {
		in.Text = p.on + s.Step.Text + "."
	}
	in.Step, in.Hop = s.Step.Text, p.hop+1
	if p.on != "" && !p.all {
		in.Member = p.box.Name.Text
	}
	if p.image != nil {
		in.Component = p.image.component
	}
	if s.Do.Set() {
		in.Commands = commands(rulebook.SayOwn(s.Do.Text, x))
	}
	if s.Act.Set() {
		in.Text = p.on + rulebook.SayOwn(s.Act.Text, x)
		if !strings.HasSuffix(in.Text, ".") {
			in.Text += "."
		}
	}
	if s.See.Set() {
		in.See = append(commands(rulebook.SayOwn(s.See.Text, x)), in.See...)
		if s.Step.Text != "verify" { // whose digest is proof enough, whichever is shown
			in.Proofs = append(in.Proofs, Proof{Line: rulebook.SayOwn(s.See.Text, x)})
		}
	}
	if s.IfNot.Set() {
		in.Back = rulebook.SayOwn(s.IfNot.Text, x)
	}
	in.Wait, in.Tries = s.Wait, s.Tries
	in.Restarts = s.Restart.Text == rulebook.RestartsItself || s.Step.Text == "install" && p.automatic()
	if s.Wait.Set() {
		in.See = append(in.See, "it takes "+duration.Range(s.Wait.From, s.Wait.To))
	}
	if s.Tries > 1 {
		in.See = append(in.See, fmt.Sprintf("where it fails, it is tried again, %d times in all", s.Tries))
	}
	for _, e := range s.Shows.Entries {
		want := rulebook.SayOwn(e.Value.Text, x)
		in.Proofs = append(in.Proofs, Proof{Key: e.Key, Want: want})
		in.See = append(in.See, fmt.Sprintf("%s is %s", e.Key, want))
	}
	if s.MustShow.Set() {
		in.Proofs = append(in.Proofs, Proof{MustShow: s.MustShow.Regexp})
		in.See = append(in.See, "the console shows "+s.MustShow.String())
	}
	if s.MustNotShow.Set() {
		in.Proofs = append(in.Proofs, Proof{MustNotShow: s.MustNotShow.Regexp})
		in.See = append(in.See, "the console does not show "+s.MustNotShow.String())
	}
	return []Instruction{in}
}

// commands are the lines of a text.
func commands(text string) []string {
	var out []string
	for line := range strings.SplitSeq(strings.TrimSpace(text), "\n") {
		out = append(out, strings.TrimSpace(line))
	}
	return out
}

// builtIns write the built-in steps; nil for one that is not taken there.
var builtIns map[string]func(w *writer, p place, x rulebook.Wording) *Instruction

func init() { // they write each other's words
	builtIns = map[string]func(w *writer, p place, x rulebook.Wording) *Instruction{
		rulebook.Announce: (*writer).announce,
		"backup": func(_ *writer, p place, _ rulebook.Wording) *Instruction {
			return &Instruction{Text: p.on + "copy the settings off the device."}
		},
		"save": func(w *writer, p place, x rulebook.Wording) *Instruction {
			in := &Instruction{Text: p.on + "save the settings."}
			if x.Slot != "" && w.savesChoice(p, "save") {
				in.Proofs = []Proof{{Key: Next, Want: x.Slot}}
			}
			return in
		},
		"space":    (*writer).space,
		"transfer": (*writer).transfer,
		"verify":   (*writer).verify,
		"install":  (*writer).install,
		"activate": (*writer).activate,
		"restart":  (*writer).restart,
		"check":    (*writer).check,
		"back": func(w *writer, p place, x rulebook.Wording) *Instruction {
			return &Instruction{Text: p.on + w.back(p.hop, p.box, x) + "."}
		},
	}
}

func (w *writer) announce(p place, _ rulebook.Wording) *Instruction {
	in := &Instruction{Text: p.on + "tell the users that there will be no service."}
	if m := w.t.Steps[p.hop].Minutes; m.Known() {
		in.Text = fmt.Sprintf("%stell the users that there will be no service for about %s.", p.on, m.Outage.Text())
		if p.how.Rolling() && len(p.boxes) > 1 {
			in.Text = fmt.Sprintf("%stell the users that the members will be without service one after the other, for about %s in all.", p.on, m.Outage.Text())
		}
	}
	return in
}

// fetchedBy is who fetches the files from the server, or brings them otherwise.
func (p place) fetchedBy() string { return p.how.FetchedBy.First() }

func (w *writer) space(p place, _ rulebook.Wording) *Instruction {
	total := int64(0)
	for _, c := range p.images {
		if p.how.Stores(c.slot != "", p.box.ManagedBy.Set()) {
			total += c.file.Size
		}
	}
	if total == 0 || p.fetchedBy() == rulebook.ByMaker {
		return nil
	}
	where := ""
	if m := p.box.ManagedBy; m.Set() {
		where = " on " + m.Text
	}
	return &Instruction{Text: fmt.Sprintf("%ssee that there is room for %s%s.", p.on, y.FormatSize(total), where), Back: "free some, but never the image that runs nor its spare"}
}

func (w *writer) transfer(p place, x rulebook.Wording) *Instruction {
	if p.image == nil {
		return nil
	}
	text := ""
	switch {
	case p.fetchedBy() == rulebook.ByMaker:
		return nil
	case p.fetchedBy() == rulebook.ByPerson:
		text = fmt.Sprintf("%schoose %s (%s) in the device's page, or copy it to the stick", p.on, x.Base, p.image.title)
	case p.box.ManagedBy.Set():
		text = fmt.Sprintf("%shave %s fetch %s (%s) from %s for it", p.on, p.box.ManagedBy.Text, x.File, p.image.title, w.server())
	default:
		text = fmt.Sprintf("%sfetch %s (%s) from %s", p.on, x.File, p.image.title, w.server())
	}
	if x.Slot != "" {
		text += fmt.Sprintf(" for slot %s", x.Slot)
		if x.Active != "" && x.Active != x.Slot {
			text += fmt.Sprintf(", never for %s, which runs", x.Active)
		}
	}
	in := &Instruction{Text: text + ".", Back: "nothing is changed yet: fetch it again"}
	if x.Size > 0 {
		in.See = []string{fmt.Sprintf("%d bytes have arrived", x.Size)}
		in.Proofs = []Proof{{File: x.Base, Size: x.Size}}
	}
	return in
}

// verify compares a digest on the device: whichever of them it computes.
func (w *writer) verify(p place, x rulebook.Wording) *Instruction {
	if p.image == nil || p.fetchedBy() == rulebook.ByMaker {
		return nil
	}
	in := &Instruction{Text: fmt.Sprintf("%scompare the digest of %s on the device.", p.on, x.Base), Back: "when it differs, delete the file on the device and fetch it again; do not install it"}
	proof := Proof{File: x.Base}
	for _, sum := range p.image.file.Digests {
		proof.Sums = append(proof.Sums, sum)
	}
	if !p.step.See.Set() { // which says which of them the device computes
		for _, a := range []digest.Algorithm{digest.SHA256, digest.MD5, digest.SHA1, digest.CRC32} {
			if sum := p.image.file.Digests.Of(a); sum != "" {
				in.See = append(in.See, string(a)+" "+sum)
			}
		}
	}
	in.Proofs = []Proof{proof}
	return in
}

func (w *writer) install(p place, x rulebook.Wording) *Instruction {
	c := p.image
	if c == nil {
		return nil
	}
	text := fmt.Sprintf("%sinstall the %s", p.on, c.title)
	if c.version != "" {
		text += " " + c.version
	}
	if c.slot != "" {
		text += " into slot " + c.slot
	}
	in := &Instruction{Text: text + ".", Back: "do not restart; read what the device says, and install it again", Proofs: []Proof{{Job: true}}}
	if p.automatic() {
		in.Text = text + "; it restarts by itself, do not switch it off."
		in.Warn, in.Back = true, w.back(p.hop, p.box, x)
		in.Proofs = append(in.Proofs, w.runs(p, c)...)
	} else if c.slot != "" && c.version != "" {
		in.Proofs = append(in.Proofs, Proof{Key: "slots." + c.slot + "." + c.component, Want: c.version, Component: c.component})
	}
	return in
}

// automatic says that the box restarts by itself at this step.
func (p place) automatic() bool {
	if p.step.Restart.Set() {
		return p.step.Restart.Text == rulebook.RestartsItself
	}
	return p.how.Automatic()
}

// runs is what a capture shows once an image runs.
func (w *writer) runs(p place, c *picked) []Proof {
	if c.version == "" {
		return nil
	}
	return []Proof{{Key: "installed." + c.component, Want: c.version, Component: c.component}}
}

func (w *writer) activate(p place, x rulebook.Wording) *Instruction {
	if x.Slot == "" {
		return nil
	}
	in := &Instruction{Text: fmt.Sprintf("%smake slot %s the one to start from.", p.on, x.Slot)}
	if x.Active != "" && x.Active != x.Slot {
		in.Back = fmt.Sprintf("make slot %s the one to start from again", x.Active)
	}
	in.Proofs = []Proof{{Key: Next, Want: x.Slot, Unsaved: w.savesChoice(p, rulebook.Activate)}}
	return in
}

// savesChoice tells whether a save step stands between the choice of what starts next and the
// restart, so that it is the one that stores it; of is activate or that save.
func (w *writer) savesChoice(p place, of string) bool {
	chosen := false
	for _, s := range w.rules(p.box).Ordered() {
		switch {
		case s.Step.Text == rulebook.Activate:
			chosen = true
		case chosen && s.Step.Text == "save":
			return of == rulebook.Activate || s.Spot == p.step.Spot
		case s.Step.Text == "restart":
			chosen = false
		}
	}
	return false
}

// minutes are those of the member that a step is taken on; of a step for all of them, the hop's.
func (w *writer) minutes(p place) *rulebook.Minutes {
	st := &w.t.Steps[p.hop]
	i := slices.IndexFunc(w.boxes(), func(b *device.Device) bool { return b.Name.Text == p.box.Name.Text })
	if !p.how.Rolling() || p.all || i < 0 || i >= len(st.Releases) || st.Releases[i] == nil {
		return st.Minutes
	}
	return st.Releases[i].Minutes
}

func (w *writer) restart(p place, x rulebook.Wording) *Instruction {
	in := &Instruction{Text: p.on + "restart.", Warn: true}
	verb := "restart"
	if p.automatic() {
		verb = "it restarts by itself"
		in.Text = p.on + verb + "."
	}
	if m := w.minutes(p); m.Known() {
		in.Text = fmt.Sprintf("%s%s; it is without service for about %s.", p.on, verb, m.Outage.Text())
		in.See = append(in.See, fmt.Sprintf("within %s it answers again", m.Outage.Text()))
	}
	in.See = append(in.See, "the console shows no errors while it starts; do not switch it off")
	in.Back = w.back(p.hop, p.box, x)
	boxes := []*device.Device{p.box}
	if p.all {
		boxes = p.boxes
	}
	for _, b := range boxes {
		for _, c := range w.chosen(p.hop, b) {
			for _, proof := range w.runs(p, &c) {
				if p.all {
					proof.Member = b.Name.Text
				}
				in.Proofs = append(in.Proofs, proof)
			}
		}
	}
	return in
}

// check is what must be seen after a hop.
func (w *writer) check(p place, _ rulebook.Wording) *Instruction {
	st := &w.t.Steps[p.hop]
	c := &Instruction{Text: "Check."}
	group := len(st.Before.Members) > 0
	for _, b := range p.after.All() {
		if len(st.Members) > 0 && !slices.Contains(st.Members, b.Name.Text) {
			continue
		}
		on := ""
		if group {
			on = b.Name.Text + ": "
		}
		for _, e := range b.Installed.Entries {
			c.See = append(c.See, fmt.Sprintf("%s%s %s", on, e.Key, e.Value.Text))
			c.Proofs = append(c.Proofs, Proof{Member: memberOf(b, group), Key: "installed." + e.Key, Want: e.Value.Text, Component: e.Key})
		}
		for _, slot := range b.Slots {
			if slot.Active && slot.Main.Set() {
				c.See = append(c.See, fmt.Sprintf("%sslot %s is the active one", on, slot.Name.Text))
				c.Proofs = append(c.Proofs, Proof{Member: memberOf(b, group), Key: Active, Want: slot.Name.Text})
			}
		}
		for _, a := range b.Attached {
			c.See = append(c.See, on+a.Label()+" is back")
		}
		w.say(c, b, "check", w.wording(b, st))
	}
	c.Commands = unique(c.Commands)
	if group {
		c.See = append(c.See, fmt.Sprintf("all %d members are there", len(p.after.All())))
	}
	for _, a := range w.rules(p.box).AfterChecks(st.Releases...) {
		c.See = append(c.See, a.Text())
		c.Proofs = append(c.Proofs, afterProofs(a)...)
	}
	c.See = unique(c.See)
	return c
}

func memberOf(b *device.Device, group bool) string {
	if group {
		return b.Name.Text
	}
	return ""
}
