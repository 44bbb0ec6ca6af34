package rulebook

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"fitcheck/core/truth"
	y "fitcheck/core/yamlfile"
)

// Recovery says how a device that does not start is brought back through its
// boot loader.
type Recovery struct {
	y.Spot
	Models     []y.String       `yaml:"models" doc:"models it is for; none means all"`
	Revisions  []y.String       `yaml:"revisions" doc:"hardware revisions it is for; none means all"`
	Enter      Attempts         `yaml:"enter" doc:"what a person does so that the boot loader waits: a text, or a list of attempts, the mildest first"`
	Signs      Signs            `yaml:"signs" doc:"the boot loader waits"`
	NotYet     Signs            `yaml:"not_yet" doc:"something else answers, and the boot loader does not"`
	Network    RecoveryNetwork  `yaml:"network"`
	Transfer   RecoveryTransfer `yaml:"transfer"`
	Accepts    Accepts          `yaml:"accepts" doc:"which images the boot loader takes"`
	Afterwards Afterwards       `yaml:"afterwards"`
	Source     y.String         `yaml:"source" doc:"key of a document under sources"`
}

// Signs are what can be seen from outside.
type Signs struct {
	PingTTL int      `yaml:"ping_ttl" doc:"time to live of the replies to a ping"`
	Lamp    y.String `yaml:"lamp" doc:"what the lamps do"`
}

// Attempts are ways to make the boot loader wait, the mildest first.
type Attempts struct {
	y.Spot
	All []Attempt
}

// Attempt is one way to make the boot loader wait.
type Attempt struct {
	y.Spot
	Do    y.String `yaml:"do" doc:"what a person does"`
	Tries int      `yaml:"tries" doc:"how often it is worth trying"`
	Signs y.String `yaml:"signs" doc:"what shows that it worked"`
	Risk  y.String `yaml:"risk" doc:"what it may cost"`
}

// FromScalar reads the one way, given as a text.
func (a *Attempts) FromScalar(text string, at y.Spot) error {
	a.Spot, a.All = at, []Attempt{{Spot: at, Do: y.String{Text: text, Spot: at}}}
	return nil
}

// List is what a list of ways is read into.
func (a *Attempts) List(at y.Spot) any {
	a.Spot = at
	return &a.All
}

// Set tells whether the file gives any.
func (a Attempts) Set() bool { return len(a.All) > 0 }

// RecoveryNetwork is the addresses on both sides.
type RecoveryNetwork struct {
	Device y.String `yaml:"device" doc:"address of the boot loader"`
	Host   y.String `yaml:"host" doc:"address to give this computer, with the length of the prefix: 10.77.0.2/24"`
}

// RecoveryTransfer is how the image goes over.
type RecoveryTransfer struct {
	Protocol  y.String   `yaml:"protocol" enum:"tftp"`
	Direction y.String   `yaml:"direction" enum:"push,serve" doc:"push: this computer sends; serve: the boot loader fetches"`
	Mode      y.String   `yaml:"mode" enum:"octet"`
	Port      int        `yaml:"port" doc:"UDP port of the side that waits; 69 where it is left out"`
	File      y.String   `yaml:"file" doc:"the name under which the boot loader takes or asks for the image"`
	Within    y.Duration `yaml:"within" doc:"how long the boot loader waits: 20s"`
	Blocksize *bool      `yaml:"blocksize" doc:"the boot loader negotiates the size of blocks"`
}

// Accepts is which images a boot loader takes.
type Accepts struct {
	Formats    []y.String `yaml:"formats" doc:"formats, as fitcheck survey names them; none means any"`
	Components []y.String `yaml:"components" doc:"components; none means any"`
	Largest    y.Size     `yaml:"largest"`
	Wrapped    *bool      `yaml:"wrapped" doc:"false: the bare image, without another header or archive around it; true: only with one"`
}

// Afterwards is what follows the transfer.
type Afterwards struct {
	Wait y.Duration `yaml:"wait" doc:"how long the device writes and restarts: 6m"`
	Note y.String   `yaml:"note" doc:"what to heed meanwhile"`
	// Signs are those of the system that is to answer then; only they show that
	// the device is back.
	Signs Signs `yaml:"signs" doc:"the new system answers"`
}

// RecoveryFor finds what is known of bringing a model and revision back. unsure
// says that there is an entry only for some hardware revisions, and that the
// device's is not known.
func (r *Rulebook) RecoveryFor(model, revision string) (found *Recovery, unsure bool) {
	if r == nil {
		return nil, false
	}
	for i := range r.Recovery {
		e := &r.Recovery[i]
		rel := Release{Models: e.Models, Revisions: e.Revisions}
		switch rel.For(r, model, revision) {
		case truth.Unknown:
			unsure = true
		case truth.Yes:
			return e, false
		}
	}
	return nil, unsure
}

// FactoryReset is what a device is once its settings are those of the factory.
type FactoryReset struct {
	y.Spot
	Starts  y.String `yaml:"starts" doc:"what runs then: running, other-slot, or a version"`
	Address y.String `yaml:"address" doc:"where it answers then"`
	Login   y.String `yaml:"login" doc:"how one logs in then"`
}

// FromScalar reads what runs then.
func (f *FactoryReset) FromScalar(text string, at y.Spot) error {
	f.Spot, f.Starts = at, y.String{Text: text, Spot: at}
	return nil
}

// Reached says how the device is reached then; "" where the rulebook does not say.
func (f FactoryReset) Reached() string {
	var parts []string
	if f.Address.Set() {
		parts = append(parts, "it answers at "+f.Address.Text)
	}
	if f.Login.Set() {
		parts = append(parts, "log in with "+f.Login.Text)
	}
	return strings.Join(parts, "; ")
}

// In one piece: the rules on an entry, one after the other.
func (c *checker) recovery() {
	for _, f := range c.r.Families.Entries {
		if a := f.Value.FactoryReset.Address; a.Set() {
			if _, err := netip.ParseAddr(a.Text); err != nil {
				c.fail(a.Spot, fmt.Sprintf("%q is not an address", a.Text), "write it as 10.77.0.1")
			}
		}
		t := f.Value.FactoryReset.Starts
		if !t.Set() || t.Text == "running" || t.Text == "other-slot" {
			continue
		}
		if _, err := c.r.Scheme(c.r.Main(f.Key)).Parse(t.Text); err != nil {
			c.fail(t.Spot, fmt.Sprintf("factory_reset is running, other-slot, or a version, not %q", t.Text), "")
		}
	}
	for i := range c.r.Recovery {
		e := &c.r.Recovery[i]
		for _, at := range e.Enter.All {
			if !at.Do.Set() {
				c.fail(at.Spot, "an attempt of enter needs do: what a person does", "")
			}
			if at.Tries < 0 {
				c.fail(at.Spot, "tries is a number from 1", "")
			}
		}
		if ttl := e.Afterwards.Signs.PingTTL; ttl > 0 && ttl == e.Signs.PingTTL {
			c.fail(e.Spot, "signs and afterwards.signs give the same ping_ttl: the boot loader would pass for the new system", "")
		}
		for _, s := range []*Signs{&e.Signs, &e.NotYet, &e.Afterwards.Signs} {
			if s.PingTTL < 0 || s.PingTTL > 255 {
				c.fail(e.Spot, fmt.Sprintf("ping_ttl is a number from 1 to 255, not %d", s.PingTTL), "")
			}
		}
		if e.Signs.PingTTL > 0 && e.Signs.PingTTL == e.NotYet.PingTTL {
			c.fail(e.Spot, "signs and not_yet give the same ping_ttl, so it tells nothing apart", "")
		}
		if t := e.Network.Device; t.Set() {
			if _, err := netip.ParseAddr(t.Text); err != nil {
				c.fail(t.Spot, fmt.Sprintf("%q is not an address", t.Text), "write it as 10.77.0.1")
			}
		}
		if t := e.Network.Host; t.Set() {
			if _, err := netip.ParsePrefix(t.Text); err != nil {
				c.fail(t.Spot, fmt.Sprintf("%q is not an address with the length of its prefix", t.Text), "write it as 10.77.0.2/24")
			}
		}
		t := e.Transfer
		one := func(v y.String, of ...string) {
			if v.Set() && !slices.Contains(of, v.Text) {
				c.fail(v.Spot, fmt.Sprintf("%s is expected here, not %q", strings.Join(of, " or "), v.Text), "")
			}
		}
		one(t.Protocol, "tftp")
		one(t.Direction, "push", "serve")
		one(t.Mode, "octet")
		if t.Port < 0 || t.Port > 65535 {
			c.fail(e.Spot, fmt.Sprintf("port is a number from 1 to 65535, not %d", t.Port), "")
		}
		if t.Direction.Text == "serve" && !t.File.Set() {
			c.fail(e.Spot, "a boot loader that fetches the image asks for it by a name: transfer needs file", "")
		}
	}
}
