package check

// Alone are the checks of an image that is put on the device alone, as through a boot
// loader: its release stands, and what is on the device can start it.
func (c *Case) Alone(component string, k *Candidate) []Line {
	if c.Rules == nil {
		return nil
	}
	if component == c.Main() && k.Release.Text != "" {
		c.Release = k.Release
	}
	c.Chosen = map[string]*Candidate{component: k}
	out := c.Standing(component, k)
	rel := k.Release.Rule
	if rel == nil || component != c.Main() {
		return out
	}
	base := Line{Component: component, Device: c.Hardware(), Package: "release " + rel.Version.Text, Sources: []Cited{c.ofDevice(), k.cite()}}
	if l, bad := c.meantFor(base, rel); bad {
		out = append(out, l)
	}
	return append(out, c.release(Asking{Release: rel, Only: component, Loaded: true})...)
}
