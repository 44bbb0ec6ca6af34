package check

import "fitcheck/core/member"

// Will is the version of a component as it will be after the install.
type Will struct {
	Text  string
	Known bool
	// Brought: the package brings it; else it is what is there now.
	Brought bool
	Cited   Cited
	// Value is what is installed, where it stays.
	Value member.Value
}

// After is a component as it will be: what is brought, else what is there. Needs,
// pairs, one version for all members and downgrades are judged on it.
func (c *Case) After(component string) Will {
	if k := c.Chosen[component]; k != nil && !k.forOthers {
		text, cited, known := c.said(component, k)
		return Will{Text: text, Known: known, Brought: true, Cited: cited}
	}
	v := c.Installed(component)
	return Will{Text: v.First(), Known: v.Known(), Cited: ofMember(v)[0], Value: v}
}

// While is a component as it is when the main image is installed: what the family's
// order installs before it is there already.
func (c *Case) While(component string) Will {
	if k := c.Chosen[component]; k != nil && !k.forOthers && c.before(component, c.Main()) {
		return c.After(component)
	}
	v := c.Installed(component)
	return Will{Text: v.First(), Known: v.Known(), Cited: ofMember(v)[0], Value: v}
}
