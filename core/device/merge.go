package device

import (
	"fmt"
	"slices"
	"strings"

	"golang.org/x/text/cases"

	"fitcheck/core/fact"
	y "fitcheck/core/yamlfile"
)

// Knowledge is what the rulebooks know, asked while sources are joined.
type Knowledge interface {
	// Model finds the model that a text names, in its own spelling.
	Model(text string) (model string, ok bool)
	// Revision tells whether a model has a hardware revision.
	Revision(model, revision string) bool
	// Owners lists the models and revisions that bear a board, each with the
	// place that says so.
	Owners(board string) []Owner
}

// Owner is a model and revision that bears a board.
type Owner struct{ Model, Revision, Where string }

// Finding is what the sources say of one key, and agree upon.
type Finding struct {
	Member string
	Key    string
	Values []Value // several for lists; else one
}

// Guess tells whether nothing but guesses speak of the key.
func (f *Finding) Guess() bool {
	return !slices.ContainsFunc(f.Values, func(v Value) bool { return !v.Guess })
}

// Contradiction is a key of which sources say different things.
type Contradiction struct {
	Member string
	Key    string
	Values []Value
}

// Draft is what all sources together say of a device.
type Draft struct {
	Group          string
	Members        []string // in the order in which the sources name them
	Findings       []Finding
	Contradictions []Contradiction
	// Changes tell what of an existing file is replaced.
	Changes []string
	Notes   []string
}

// Merge joins what sources say. What a person sets by hand holds; of sources
// that contradict each other none does. have, where it is not nil, is the
// device file that is updated: what it says of the hardware is one more
// source, what it says of the device's state gives way to what was read now.
func Merge(readings []*Reading, byHand []Value, have *Device, k Knowledge) *Draft {
	d := &Draft{}
	m := &merger{d: d, k: k, said: map[[2]string][]Value{}, order: map[string][]string{}, members: map[string]bool{}}
	for _, r := range readings {
		d.Notes = append(d.Notes, r.Notes...)
		switch {
		case d.Group == "" || r.Group == d.Group:
			d.Group = r.Group
		case r.Group != "":
			d.Notes = append(d.Notes, fmt.Sprintf("%s speaks of a %s, another source of a %s; it is taken for a %s", r.File, r.Group, d.Group, d.Group))
		}
		if d.Group == "" {
			d.Group = r.Group
		}
		for _, v := range r.Values {
			m.say(v)
		}
	}
	m.byHand = byHand
	for _, v := range byHand {
		m.say(v)
	}
	if have != nil {
		m.existing(have)
	}
	for _, member := range append([]string{""}, d.Members...) {
		m.settle(member)
	}
	return d
}

type merger struct {
	d       *Draft
	k       Knowledge
	order   map[string][]string // keys by member, as they came
	said    map[[2]string][]Value
	members map[string]bool
	byHand  []Value
}

func (m *merger) say(v Value) {
	at := [2]string{v.Member, v.Key}
	if _, ok := m.said[at]; !ok {
		m.order[v.Member] = append(m.order[v.Member], v.Key)
	}
	m.said[at] = append(m.said[at], v)
	if v.Member != "" && !m.members[v.Member] {
		m.members[v.Member] = true
		m.d.Members = append(m.d.Members, v.Member)
	}
}

// existing adds what a device file says already. Of the state of the device it
// counts only where nothing newer was read.
func (m *merger) existing(have *Device) {
	if m.d.Group == "" {
		m.d.Group = have.Group.Text
	}
	units := map[string]*Unit{"": &have.Unit}
	for i := range have.Members {
		name := have.Members[i].Name.Text
		if name == "" { // it cannot be told which one it is
			continue
		}
		units[name] = &have.Members[i]
	}
	for _, member := range slices.Clone(m.d.Members) {
		if units[member] == nil && len(have.Members) > 0 {
			m.d.Changes = append(m.d.Changes, fmt.Sprintf("the member %s is new", member))
		}
	}
	for member, u := range units {
		for _, v := range u.values(have.File) {
			v.Member = member
			now := m.said[[2]string{member, v.Key}]
			switch {
			case len(now) == 0 || slices.ContainsFunc(now, func(n Value) bool { return m.same(n, v) }):
			case v.Key == "name":
			case !stateful(v.Key):
				m.say(v)
			case slices.ContainsFunc(now, func(n Value) bool { return !n.Guess }):
				m.d.Changes = append(m.d.Changes, fmt.Sprintf("%s: %s becomes %s (%s)", label(member, v.Key), v.Text, now[0].Text, now[0].At))
			}
		}
	}
	slices.Sort(m.d.Changes)
}

// stateful tells keys whose values change with every install from those that
// belong to the hardware.
func stateful(key string) bool {
	head, _, _ := strings.Cut(key, ".")
	return slices.Contains([]string{"installed", "slots", "storage_free", "companions", "attached", "features", "config", "state", "entitled_until", "family", "entitled", "start", "job", "files", "faults", "address"}, head)
}

// values lists what a unit says under keys of one value, each with its place.
//
// In one piece: the keys of a device file, one after the other.
func (u *Unit) values(file string) []Value {
	var out []Value
	add := func(key, text string, at y.Spot) {
		if at.Line > 0 && text != "" {
			_, guess := u.Guessed(key)
			out = append(out, Value{Key: key, Text: text, At: fact.Source{Kind: fact.DeviceFile, File: file, Line: at.Line}, Guess: guess})
		}
	}
	for _, key := range single {
		if t, ok := u.texts()[key]; ok {
			add(key, t.Text, t.Spot)
		}
	}
	for _, e := range u.Installed.Entries {
		add("installed."+e.Key, e.Value.Text, e.Value.Spot)
	}
	for _, e := range u.Companions.Entries {
		add("companions."+e.Key, e.Value.Text, e.Value.Spot)
	}
	if u.StorageFree.Set() {
		add("storage_free", fmt.Sprint(u.StorageFree.Bytes), u.StorageFree.Spot)
	}
	if u.Memory.Set() {
		add("memory", fmt.Sprint(u.Memory.Bytes), u.Memory.Spot)
	}
	for _, s := range u.Slots {
		add("slots."+s.Name.Text+".main", s.Main.Text, s.Main.Spot)
		for _, e := range s.Others.Entries {
			add("slots."+s.Name.Text+"."+e.Key, e.Value.Text, e.Value.Spot)
		}
	}
	for _, f := range u.Files {
		at := "files." + f.File.Text + "."
		add(at+"component", f.Component.Text, f.Component.Spot)
		add(at+"version", f.Version.Text, f.Version.Spot)
		add(at+"md5", f.MD5.Text, f.MD5.Spot)
		if f.Size.Set() {
			add(at+"size", fmt.Sprint(f.Size.Bytes), f.Size.Spot)
		}
	}
	if j := u.Job; j != nil {
		add("job.state", j.State.Text, j.State.Spot)
		add("job.percent", j.Percent.Text, j.Percent.Spot)
		add("job.reason", j.Reason.Text, j.Reason.Spot)
	}
	if e := u.Entitled; e != nil {
		for _, d := range []struct {
			key string
			y.Date
		}{{"entitled.from", e.From}, {"entitled.until", e.Until}} {
			if d.Set() {
				add(d.key, d.Day.Format("2006-01-02"), d.Spot)
			}
		}
		if e.Active != nil {
			add("entitled.active", fmt.Sprint(*e.Active), e.Spot)
		}
	}
	if s := u.Start; s != nil && s.Saved != nil {
		add("start.saved", fmt.Sprint(*s.Saved), s.Spot)
	}
	return out
}

// settle decides every key of one member: the model first, since what a
// revision means depends on it.
func (m *merger) settle(member string) {
	m.promote(member, "model", func(text string) (string, bool) { return m.k.Model(text) })
	m.byBoards(member)
	model := m.one(member, "model")
	if model == "" && member != "" {
		model = m.one("", "model")
	}
	m.promote(member, "revision", func(text string) (string, bool) { return text, model != "" && m.k.Revision(model, text) })
	from := len(m.d.Findings)
	for _, key := range m.order[member] {
		m.decide(member, key)
	}
	m.oneActive(member, from)
}

// promote makes guesses sure that a rulebook confirms.
func (m *merger) promote(member, key string, known func(string) (string, bool)) {
	values := m.said[[2]string{member, key}]
	sure := 0
	for _, v := range values {
		if _, ok := known(v.Text); v.Open && ok {
			sure++
		}
	}
	if sure != 1 {
		return
	}
	for i, v := range values {
		if t, ok := known(v.Text); v.Open && ok {
			values[i].Text, values[i].Guess = t, false
		}
	}
}

// one is the only sure text of a key, "" when there is none or more than one.
func (m *merger) one(member, key string) string {
	found := ""
	for _, v := range m.said[[2]string{member, key}] {
		if v.Guess {
			continue
		}
		if v.At.Kind == fact.Command {
			return v.Text
		}
		if found != "" && !strings.EqualFold(found, v.Text) {
			return ""
		}
		found = v.Text
	}
	return found
}

// byBoards adds what the rulebooks conclude from a board: the model and the
// revision, where only one bears it.
func (m *merger) byBoards(member string) {
	for _, b := range m.said[[2]string{member, "boards"}] {
		owners := m.k.Owners(b.Text)
		if len(owners) == 0 || b.Guess {
			continue
		}
		var models, revisions []string
		for _, o := range owners {
			if !slices.Contains(models, o.Model) {
				models = append(models, o.Model)
			}
			revisions = append(revisions, o.Revision)
		}
		where := fact.Source{Kind: fact.Rulebook, File: fmt.Sprintf("%s, by the board %s", owners[0].Where, b.Text)}
		if len(models) > 1 {
			m.d.Notes = append(m.d.Notes, fmt.Sprintf("%s: the board is that of %s", where, strings.Join(models, ", ")))
			continue
		}
		m.say(Value{Member: member, Key: "model", Text: models[0], At: where})
		switch {
		case len(revisions) == 1 && revisions[0] != "":
			m.say(Value{Member: member, Key: "revision", Text: revisions[0], At: where})
		case len(revisions) > 1:
			given := m.one(member, "revision")
			if given != "" && !slices.ContainsFunc(revisions, func(r string) bool { return strings.EqualFold(r, given) }) {
				m.say(Value{Member: member, Key: "revision", Text: strings.Join(revisions, " or "), At: where})
			} else if given == "" {
				m.d.Notes = append(m.d.Notes, fmt.Sprintf("%s: it is that of the revisions %s; which one it is, only the label or the console tells", where, strings.Join(revisions, ", ")))
			}
		}
	}
}

// decide makes a finding of what is said of a key, or a contradiction.
func (m *merger) decide(member, key string) {
	values := m.said[[2]string{member, key}]
	var sure, guesses, hand []Value
	for _, v := range values {
		switch {
		case v.At.Kind == fact.Command:
			hand = append(hand, v)
		case v.Guess:
			guesses = append(guesses, v)
		default:
			sure = append(sure, v)
		}
	}
	if len(hand) > 0 {
		for _, v := range sure {
			if !isList(key) && !m.same(v, hand[0]) {
				m.d.Notes = append(m.d.Notes, fmt.Sprintf("%s is set by hand to %s, where %s says %s", label(member, key), hand[len(hand)-1].Text, v.At, v.Text))
			}
		}
		if !isList(key) {
			hand = hand[len(hand)-1:]
		}
		m.d.Findings = append(m.d.Findings, Finding{member, key, hand})
		return
	}
	pick := sure
	if len(pick) == 0 {
		pick = guesses
	}
	if len(pick) == 0 {
		return
	}
	if isList(key) {
		m.d.Findings = append(m.d.Findings, Finding{member, key, m.added(key, pick)})
		return
	}
	if different := m.distinct(pick); len(different) > 1 {
		if n := len(different) - maxContradicting; n > 0 {
			m.d.Notes = append(m.d.Notes, fmt.Sprintf("%s: %d more values are said of it", label(member, key), n))
			different = different[:maxContradicting]
		}
		m.d.Contradictions = append(m.d.Contradictions, Contradiction{member, key, different})
		return
	}
	for _, g := range guesses {
		if len(sure) > 0 && !m.same(g, sure[0]) && !g.Open {
			m.d.Notes = append(m.d.Notes, fmt.Sprintf("%s: %s could mean that %s is %s; %s says %s", g.At, g.Text, label(member, key), g.Text, sure[0].At, sure[0].Text))
		}
	}
	m.d.Findings = append(m.d.Findings, Finding{member, key, pick[:1]})
}

// added joins the entries of a list. Of what is attached, two of one model in one source
// are two.
func (m *merger) added(key string, all []Value) []Value {
	if key != "attached" {
		return m.distinct(all)
	}
	counts := map[[2]string][]Value{} // what is said by one source
	most := map[string][]Value{}
	for _, v := range all {
		at := [2]string{m.canonical(v), v.At.File}
		counts[at] = append(counts[at], v)
		if len(counts[at]) > len(most[at[0]]) {
			most[at[0]] = counts[at]
		}
	}
	var out []Value
	for _, one := range m.distinct(all) {
		out = append(out, most[m.canonical(one)]...)
	}
	return out
}

// oneActive: of a box's slots one is active. Its findings stand from a place on.
func (m *merger) oneActive(member string, from int) {
	var active []Value
	for _, f := range m.d.Findings[from:] {
		if f.Member == member && strings.HasPrefix(f.Key, "slots.") && strings.HasSuffix(f.Key, ".active") && f.Values[0].Text == "true" {
			active = append(active, f.Values[0])
		}
	}
	if len(active) < 2 {
		return
	}
	for i := range active {
		active[i].Text = strings.TrimSuffix(strings.TrimPrefix(active[i].Key, "slots."), ".active")
	}
	m.d.Contradictions = append(m.d.Contradictions, Contradiction{member, "active slot", active})
	m.d.Findings = slices.DeleteFunc(m.d.Findings, func(f Finding) bool {
		return f.Member == member && strings.HasPrefix(f.Key, "slots.") && strings.HasSuffix(f.Key, ".active")
	})
}

// maxContradicting is how many values of one key are told that contradict each other.
const maxContradicting = 100

// same tells whether two values of one key say the same.
func (m *merger) same(a, b Value) bool { return m.canonical(a) == m.canonical(b) }

// canonical is a text that all values of one key share that say the same.
func (m *merger) canonical(v Value) string {
	t := v.Text
	switch v.Key {
	case "model":
		if c, ok := m.k.Model(t); ok {
			t = c
		}
	case "arch":
		t = fact.CanonicalArch(t)
	case "storage_free", "memory":
		if n, err := y.ParseSize(t); err == nil {
			t = fmt.Sprint(n)
		}
	}
	return cases.Fold().String(strings.TrimSpace(t))
}

// distinct drops values that say what one before them says.
func (m *merger) distinct(values []Value) []Value {
	var out []Value
	seen := map[string]bool{}
	for _, v := range values {
		if c := m.canonical(v); !seen[c] {
			seen[c] = true
			out = append(out, v)
		}
	}
	return out
}

// label names a key of a member for people.
func label(member, key string) string {
	if member == "" {
		return key
	}
	return member + ": " + key
}

// Label names what a contradiction is about.
func (c Contradiction) Label() string { return label(c.Member, c.Key) }

// Label names what a finding is about.
func (f Finding) Label() string { return label(f.Member, f.Key) }
