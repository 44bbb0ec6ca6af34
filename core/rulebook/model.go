package rulebook

import (
	"slices"
	"strings"

	"fitcheck/core/fact"
	"fitcheck/core/truth"
	y "fitcheck/core/yamlfile"
)

// FindModel finds a model by any of its spellings, without regard to case.
func (r *Rulebook) FindModel(name string) (*y.Entry[Model], bool) {
	if r == nil {
		return nil, false
	}
	name = strings.TrimSpace(name)
	for _, e := range r.Models.Entries {
		if strings.EqualFold(e.Key, name) {
			return e, true
		}
	}
	for _, e := range r.Models.Entries {
		for _, also := range e.Value.Also {
			if strings.EqualFold(also.Text, name) {
				return e, true
			}
		}
	}
	return nil, false
}

// CanonicalModel is the rulebook's own spelling of a model, or the name in
// lower case when the rulebook does not know it.
func (r *Rulebook) CanonicalModel(name string) string {
	if e, ok := r.FindModel(name); ok {
		return e.Key
	}
	return strings.ToLower(strings.TrimSpace(name))
}

// Revision finds a hardware revision of a model, without regard to case.
func (m *Model) Revision(name string) (*y.Entry[Board], bool) {
	for _, e := range m.Revs.Entries {
		if strings.EqualFold(e.Key, name) {
			return e, true
		}
	}
	return nil, false
}

// board is the hardware of one revision: its own keys, else the model's.
func (m *Model) board(e *y.Entry[Board]) Board {
	b := m.Board
	if e == nil {
		return b
	}
	if e.Value.Arch.Set() {
		b.Arch = e.Value.Arch
	}
	if len(e.Value.Boards) > 0 {
		b.Boards = e.Value.Boards
	}
	if e.Value.Slot.Set() {
		b.Slot = e.Value.Slot
	}
	if e.Value.Memory.Set() {
		b.Memory = e.Value.Memory
	}
	return b
}

// hardware lists the revisions that are possible, with their boards: the one
// named, or all of the model when none is known.
func (m *Model) hardware(revision string) []Board {
	if len(m.Revs.Entries) == 0 {
		return []Board{m.Board}
	}
	var out []Board
	for _, e := range m.Revs.Entries {
		if revision == "" || strings.EqualFold(e.Key, revision) {
			out = append(out, m.board(e))
		}
	}
	return out
}

// Arch is the architecture that the rulebook gives a model and revision. With
// the revision unknown, it is known only where all revisions agree.
func (r *Rulebook) Arch(m *Model, revision string) (fact.Fact, bool) {
	all := m.hardware(revision)
	for _, b := range all {
		if !b.Arch.Set() || fact.CanonicalArch(b.Arch.Text) != fact.CanonicalArch(all[0].Arch.Text) {
			return fact.Fact{}, false
		}
	}
	if len(all) == 0 {
		return fact.Fact{}, false
	}
	return r.fact(fact.Arch, all[0].Arch), true
}

// Boards are the board identifiers of a model and revision, known like Arch.
func (r *Rulebook) Boards(m *Model, revision string) []fact.Fact {
	all := m.hardware(revision)
	for _, b := range all {
		if !sameTexts(b.Boards, all[0].Boards) {
			return nil
		}
	}
	if len(all) == 0 {
		return nil
	}
	var out []fact.Fact
	for _, t := range all[0].Boards {
		out = append(out, r.fact(fact.Board, t))
	}
	return out
}

// SlotSize and MemorySize are known like Arch.
func (r *Rulebook) SlotSize(m *Model, revision string) (y.Size, bool) {
	return sameSize(m.hardware(revision), func(b Board) y.Size { return b.Slot })
}

// MemorySize is the memory of a model and revision.
func (r *Rulebook) MemorySize(m *Model, revision string) (y.Size, bool) {
	return sameSize(m.hardware(revision), func(b Board) y.Size { return b.Memory })
}

func sameSize(all []Board, of func(Board) y.Size) (y.Size, bool) {
	for _, b := range all {
		if s := of(b); !s.Set() || s.Bytes != of(all[0]).Bytes {
			return y.Size{}, false
		}
	}
	if len(all) == 0 {
		return y.Size{}, false
	}
	return of(all[0]), true
}

func sameTexts(a, b []y.String) bool {
	if len(a) != len(b) {
		return false
	}
	for i := range a {
		if a[i].Text != b[i].Text {
			return false
		}
	}
	return true
}

// Alike tells whether all revisions of a model have the same architecture and
// boards, so that an image need not say which it is for.
func (m *Model) Alike() bool {
	all := m.hardware("")
	for _, b := range all {
		if fact.CanonicalArch(b.Arch.Text) != fact.CanonicalArch(all[0].Arch.Text) || !sameTexts(b.Boards, all[0].Boards) {
			return false
		}
	}
	return true
}

// Owner is a model and revision that bears a board; Revision is empty where
// the model has none.
type Owner struct {
	Model, Revision string
	Source          fact.Source
}

// Owners lists the models and revisions to which the rulebook gives a board.
func (r *Rulebook) Owners(board string) []Owner {
	if r == nil {
		return nil
	}
	var out []Owner
	has := func(model, revision string, b Board) {
		for _, t := range b.Boards {
			if strings.EqualFold(t.Text, strings.TrimSpace(board)) {
				out = append(out, Owner{model, revision, r.Source(t.Spot)})
				return
			}
		}
	}
	for _, e := range r.Models.Entries {
		if len(e.Value.Revs.Entries) == 0 {
			has(e.Key, "", e.Value.Board)
		}
		for _, rev := range e.Value.Revs.Entries {
			has(e.Key, rev.Key, e.Value.board(rev))
		}
	}
	return out
}

// HoldsRevision tells whether a text of a revision list, one revision or a
// range ("A1-B1") in the model's order of revisions, holds a revision. A text
// that is neither, and a revision that the model does not have, leave it unknown;
// of a model whose revisions nobody listed, only the very text is known.
func (m *Model) HoldsRevision(text, revision string) truth.Truth {
	text, revision = strings.TrimSpace(text), strings.TrimSpace(revision)
	if m == nil || len(m.Revs.Entries) == 0 {
		if strings.EqualFold(text, revision) && revision != "" {
			return truth.Yes
		}
		return truth.Unknown
	}
	lo, hi, ok := m.revisions(text)
	at := m.index(revision)
	if !ok || at < 0 {
		return truth.Unknown
	}
	return truth.Of(lo <= at && at <= hi)
}

// revisions is the stretch of the model's revisions that a text stands for.
func (m *Model) revisions(text string) (from, to int, ok bool) {
	if i := m.index(text); i >= 0 {
		return i, i, true
	}
	// A revision may have a dash in its name: any dash may be that of the range.
	for i, c := range text {
		if c != '-' {
			continue
		}
		lo, hi := m.index(text[:i]), m.index(text[i+1:])
		if lo >= 0 && hi >= lo {
			return lo, hi, true
		}
	}
	return 0, 0, false
}

// KnowsRevision tells whether a text is a revision or a range of revisions of
// some model among those named, or of any where none is; where no model lists
// revisions, any text is.
func (r *Rulebook) KnowsRevision(models []y.String, text string) bool {
	listed := false
	for _, e := range r.Models.Entries {
		if len(models) > 0 && !r.names(models, e.Key) || len(e.Value.Revs.Entries) == 0 {
			continue
		}
		listed = true
		if _, _, ok := e.Value.revisions(strings.TrimSpace(text)); ok {
			return true
		}
	}
	return !listed
}

func (m *Model) index(revision string) int {
	for i, e := range m.Revs.Entries {
		if strings.EqualFold(e.Key, strings.TrimSpace(revision)) {
			return i
		}
	}
	return -1
}

// ModelIn finds the model that a text names: as it is, behind the maker's name,
// or as the only known model that stands in it as a word.
func (r *Rulebook) ModelIn(text string) (model string, ok bool) {
	if e, ok := r.FindModel(text); ok {
		return e.Key, true
	}
	found := ""
	for _, word := range strings.FieldsFunc(text, func(c rune) bool { return c == ' ' || c == ',' || c == '(' || c == ')' || c == '"' }) {
		if e, ok := r.FindModel(word); ok {
			if found != "" && found != e.Key {
				return "", false
			}
			found = e.Key
		}
	}
	return found, found != ""
}

// Paired tells whether two components of a family are halves of one pair.
func (r *Rulebook) Paired(family, a, b string) bool {
	f, ok := r.family(family)
	return ok && slices.ContainsFunc(f.Paired, func(group []y.String) bool {
		has := func(name string) bool {
			return slices.ContainsFunc(group, func(t y.String) bool { return t.Text == name })
		}
		return has(a) && has(b)
	})
}
