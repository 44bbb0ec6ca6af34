package rulebook

import (
	"errors"
	"fmt"
	"io"
	"reflect"
	"slices"
	"strings"
	"text/template"
	"text/template/parse"
)

// Wording is what the device's own wording of a step may speak of.
type Wording struct {
	Server    string // address or name of the server, as the caller gives it
	Protocol  string
	Device    string // its name
	Model     string
	Member    string // of a group
	File      string // name under which the server offers it
	Component string
	Slot      string // that the install goes to
	Active    string // slot that runs now
	Release   string
	From, To  string // versions of the main component
	Digest    string // SHA-256 of the file, in hexadecimal
	MD5       string
	SHA512    string
	Size      int64

	Base   string // of File: its last part
	Files  string // all that are installed at this hop on this box, separated by blanks
	SHA1   string
	SHA256 string // as Digest
	CRC32  string
	Root   string // below which the server offers files
	// Manager is the device that fetches and installs for this one.
	Manager string
	// After is how the device is reached once its settings are those of the factory.
	After struct{ Address, Login string }
}

// spoken lists what words may speak of.
func spoken() string {
	var out []string
	for _, f := range reflect.VisibleFields(reflect.TypeFor[Wording]()) {
		switch {
		case f.Name == "After":
			out = append(out, ".After.Address", ".After.Login")
		case len(f.Index) == 1:
			out = append(out, "."+f.Name)
		}
	}
	return strings.Join(out, " ")
}

// Say writes a step in the device's own words; ok is false where the rulebook
// gives none.
func (r *Rulebook) Say(step string, w Wording) (text string, ok bool) {
	if r == nil {
		return "", false
	}
	e, ok := r.Procedure.Get(step)
	if !ok {
		return "", false
	}
	text, err := say(e.Value.Text, w)
	return text, err == nil
}

// SayOwn writes words of a step of a sequence.
func SayOwn(text string, w Wording) string {
	out, err := say(text, w)
	if err != nil { // which check refuses
		return text
	}
	return out
}

func say(text string, w Wording) (string, error) {
	t, err := template.New("step").Parse(text)
	if err != nil {
		return "", err
	}
	for _, one := range t.Templates() {
		if one.Tree != nil && loops(one.Root) {
			return "", errors.New("range has nothing to go through here")
		}
	}
	var b strings.Builder
	err = t.Execute(&limited{&b, 1 << 16}, w)
	return b.String(), err
}

// loops tells whether a template goes through something again and again; over a
// number, that could be for ever.
func loops(n parse.Node) bool {
	branch := func(b *parse.BranchNode) bool { return loops(b.List) || b.ElseList != nil && loops(b.ElseList) }
	switch n := n.(type) {
	case *parse.ListNode:
		return n != nil && slices.ContainsFunc(n.Nodes, loops)
	case *parse.RangeNode:
		return true
	case *parse.IfNode:
		return branch(&n.BranchNode)
	case *parse.WithNode:
		return branch(&n.BranchNode)
	}
	return false
}

// limited bounds what a template writes.
type limited struct {
	w    io.Writer
	left int
}

func (l *limited) Write(p []byte) (int, error) {
	if l.left -= len(p); l.left < 0 {
		return 0, fmt.Errorf("it writes too much")
	}
	return l.w.Write(p)
}

func (c *checker) procedure() {
	for _, e := range c.r.Procedure.Entries {
		if !BuiltIn(e.Key) {
			c.fail(e.Spot, fmt.Sprintf("there is no step %q", e.Key), "the steps are "+strings.Join(steps, ", "))
		}
		if _, err := say(e.Value.Text, Wording{}); err != nil {
			message := strings.TrimPrefix(err.Error(), "template: step:")
			c.fail(e.Value.Spot, "the wording cannot be used: "+message, "it may speak of "+spoken())
		}
	}
}
