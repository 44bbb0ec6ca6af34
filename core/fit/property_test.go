package fit

import (
	"crypto/md5"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/fact"
	"fitcheck/core/fit/check"
)

// plan is a device, a rulebook and a package that are made to fit each other;
// every field can be spoilt by itself.
type plan struct {
	model, rev, arch      string // the device's; "" is unknown
	installed, boot       string
	slots                 string
	readFrom              string // marks values of the device as guesses
	more                  string // further lines of the device file
	heading, title, revs  string // what the package says
	bareTitle             bool   // a single image without a manifest
	headerArch            byte
	fields                string // further fields of the manifest's record
	release, hops, change string // of the rulebook
	sums                  string // "", "right", "wrong", "weak"
	flip                  int    // a bit of the image, 0 for none
	bootImage             bool
}

func makePlan(r *rand.Rand) plan {
	p := plan{installed: []string{"8.2.1", "8.3.9", "8.4.1"}[r.IntN(3)], boot: "3.1.4", slots: "[{name: A, active: true}, {name: B}]", hops: "upward: open"}
	switch r.IntN(4) {
	case 0:
		p.model, p.rev, p.arch, p.headerArch, p.revs = "QM-8T", "B1", "arm64", arm64, "B1"
	case 1:
		p.model, p.rev, p.arch, p.headerArch = "QM-24T", "A1", "arm", arm
	default:
		p.model, p.rev, p.arch, p.headerArch = "QM-8T", []string{"A1", "A2"}[r.IntN(2)], "arm", arm
		p.revs = []string{"A1,A2", "A1-A2"}[r.IntN(2)]
	}
	p.heading, p.title = p.model, p.model+" 8.4.2"
	switch r.IntN(3) { // one strong source, the other, or both
	case 0:
		p.title = "system"
	case 1:
		if p.model == "QM-24T" {
			p.bareTitle = true
		}
	}
	if r.IntN(3) == 0 && !p.bareTitle {
		p.fields += " region=EU"
		p.more += "region: EU\n"
	}
	if r.IntN(3) == 0 && !p.bareTitle {
		p.fields += " plat=physical"
		p.more += "platform: physical\n"
	}
	if r.IntN(3) == 0 {
		p.release = `needs: [{component: boot, within: ">=3.1.0"}]`
	}
	p.bootImage = r.IntN(3) == 0 && p.model == "QM-8T" && p.rev != "B1" && !p.bareTitle
	if r.IntN(3) == 0 && !p.bootImage { // a list must speak of every image
		p.sums = "right"
	}
	return p
}

func (p plan) scene() scene {
	var d strings.Builder
	line := func(key, value string) {
		if value != "" {
			fmt.Fprintf(&d, "%s: %s\n", key, value)
		}
	}
	line("model", p.model)
	line("revision", p.rev)
	installed := []string{}
	for _, v := range [][2]string{{"boot", p.boot}, {"main", p.installed}} {
		if v[1] != "" {
			installed = append(installed, v[0]+": "+v[1])
		}
	}
	line("installed", "{"+strings.Join(installed, ", ")+"}")
	line("slots", p.slots)
	line("read_from", p.readFrom)
	d.WriteString(p.more)
	s := scene{device: []string{strings.TrimPrefix(testDevice, "kind: device\nname: cab\n"), d.String()}}
	img := uimage(p.headerArch, kernel, p.title, 900)
	if p.flip > 0 {
		img = []byte(flip(img, p.flip))
	}
	rel := "{version: 8.4.2, date: 2026-09-30, families: [tram-l2]}"
	if p.release != "" {
		s.rules = append(s.rules, rel, strings.TrimSuffix(rel, "}")+", "+p.release+"}")
	}
	s.rules = append(s.rules, "upward: open", p.hops)
	if p.change != "" {
		before, after, _ := strings.Cut(p.change, " => ")
		s.rules = append(s.rules, before, after)
	}
	if p.bareTitle {
		s.rules = append([]string{"  QM-24T:\n", "  QM-24T:\n    also: [QM24T]\n"}, s.rules...)
		s.bare, s.pkg = img, strings.ReplaceAll(p.model, "-", "")+"_8.4.2.img"
		if p.model == "" {
			s.pkg = "QM24T_8.4.2.img"
		}
		return s
	}
	s.manifest = ""
	if p.heading != "" {
		s.manifest = "[" + p.heading + "]\n"
	}
	record := "main a.img 8.4.2"
	if p.revs != "" {
		record += " revs=" + p.revs
	}
	s.manifest += record + p.fields + "\n"
	s.files = map[string]string{"a.img": string(img)}
	if p.bootImage {
		s.manifest += "boot l.boot 3.2.0 revs=A1,A2\n"
		s.files["l.boot"] = string(uimage(arm, firmware, "loader", 300))
	}
	switch p.sums {
	case "right":
		s.files["SUMS"] = sums("a.img", string(img))
	case "wrong":
		s.files["SUMS"] = sums("a.img", "something else")
	case "weak":
		s.files["SUMS"] = fmt.Sprintf("%x  a.img\n", md5.Sum(img))
	}
	return s
}

// spoils are ways to take away or contradict what a fit rests on. Each tells
// whether it applies to a plan.
var spoils = map[string]func(p *plan) bool{
	"no strong source names the model": func(p *plan) bool { p.heading, p.title = "", "system"; return true },
	"the manifest names another model": func(p *plan) bool { p.heading = "QM-2T"; return !p.bareTitle },
	"the header names another model":   func(p *plan) bool { p.title = "QM-2T 8.4.2"; return true },
	"all name another model":           func(p *plan) bool { p.heading, p.title = "QM-2T", "QM-2T 8.4.2"; return true },
	"no source names the revision":     func(p *plan) bool { p.revs = ""; return p.model == "QM-8T" },
	"another revision": func(p *plan) bool {
		if p.revs = "B1"; p.rev == "B1" {
			p.revs = "A1-A2"
		}
		return p.model == "QM-8T"
	},
	"another architecture": func(p *plan) bool {
		if p.headerArch = arm64; p.arch == "arm64" {
			p.headerArch = arm
		}
		return true
	},
	"the device's model is not known":     func(p *plan) bool { p.model = ""; return true },
	"the device's model is guessed":       func(p *plan) bool { p.readFrom = `{model: "cab.txt:3 (guess)"}`; return true },
	"the device's revision is not known":  func(p *plan) bool { p.rev = ""; return p.model == "QM-8T" },
	"the device's revision is guessed":    func(p *plan) bool { p.readFrom = `{revision: "cab.txt:4 (guess)"}`; return p.model == "QM-8T" },
	"the device is of another revision":   func(p *plan) bool { p.rev = "C9"; return p.model == "QM-8T" },
	"the installed version is not known":  func(p *plan) bool { p.installed = ""; return true },
	"the installed version is guessed":    func(p *plan) bool { p.readFrom = `{installed.main: "cab.txt:5 (guess)"}`; return true },
	"the installed version does not read": func(p *plan) bool { p.installed = "newest"; return true },
	"a rule forbids the hop":              func(p *plan) bool { p.installed = "7.9.9"; return true },
	"it goes down":                        func(p *plan) bool { p.installed = "9.9.9"; return true },
	"the slots are not known":             func(p *plan) bool { p.slots = ""; return true },
	"the active slot is not known":        func(p *plan) bool { p.slots = "[{name: A}, {name: B}]"; return true },
	"the slots are guessed":               func(p *plan) bool { p.readFrom = `{slots: "cab.txt:6 (guess)"}`; return true },
	"the region is not the device's": func(p *plan) bool {
		p.fields += " region=US"
		p.more = "region: EU\n"
		return !strings.Contains(p.fields, "region=EU") && !strings.Contains(p.fields, "plat=") && !p.bareTitle
	},
	"the device's region is not known": func(p *plan) bool {
		p.more = strings.Replace(p.more, "region: EU\n", "", 1)
		return strings.Contains(p.fields, "region=EU")
	},
	"the device's platform is not known": func(p *plan) bool {
		p.more = strings.Replace(p.more, "platform: physical\n", "", 1)
		return strings.Contains(p.fields, "plat=")
	},
	"only listed moves are allowed":        func(p *plan) bool { p.hops = "upward: listed"; return true },
	"the release is withdrawn":             func(p *plan) bool { p.release = "withdrawn: uplinks flap"; return true },
	"the release is not listed":            func(p *plan) bool { p.change = "version: 8.4.2, => version: 8.4.7,"; return true },
	"the release is for another model":     func(p *plan) bool { p.release = "models: [QM-2T]"; return true },
	"the size of a slot is not known":      func(p *plan) bool { p.change = ", slot: 4KiB => "; return true },
	"the slot is too small":                func(p *plan) bool { p.change = "slot: 4KiB => slot: 500"; return true },
	"the rulebook does not know the model": func(p *plan) bool { p.change = "  " + p.model + ":\n =>   QM-99:\n"; return true },
	"the rulebook has another architecture": func(p *plan) bool {
		p.change, p.more = "arch: arm64 => arch: ppc", "arch: arm64\n"
		return p.arch == "arm64" && p.fields == ""
	},
	"a need does not hold": func(p *plan) bool { p.release = `needs: [{component: boot, within: ">=9.0.0"}]`; return true },
	"a need is not known to hold": func(p *plan) bool {
		p.release, p.boot = `needs: [{component: boot, within: ">=3.1.0"}]`, ""
		return !p.bootImage
	},
	"a companion is not known": func(p *plan) bool { p.release = `needs: [{companion: controller, within: ">=5"}]`; return true },
	"something attached is dropped": func(p *plan) bool {
		p.release = "drops: [VR-210]"
		p.more += "attached: [VR-210]\n"
		return true
	},
	"the entitlement ended": func(p *plan) bool { p.more += "entitled_until: 2026-01-01\n"; return true },
	"a bit of the header":   func(p *plan) bool { p.flip = 20; return true },
	"a bit of the payload":  func(p *plan) bool { p.flip = 300; return true },
	"a wrong digest":        func(p *plan) bool { p.sums = "wrong"; return !p.bareTitle },
}

// Whatever fits rests on strong sources, and on nothing that is unknown: take
// any of it away, or contradict it, and the fit is gone.
func TestFitsNeverRestsOnAGuess(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 2))
	tried := map[string]int{}
	for i := range 60 {
		p := makePlan(r)
		v := p.scene().run(t)
		require.Equal(t, Fits, v.Outcome, "plan %d %+v\n%s", i, p, dump(v))
		for _, c := range v.checks() {
			if c.Outcome != Fits || check.Find(c.Check).Respect == "" || c.Check == "family" {
				continue
			}
			strong := slices.ContainsFunc(c.Sources, func(x Cited) bool {
				return x.Side == OfPackage && (x.Source.Kind == fact.Header || x.Source.Kind == fact.Manifest)
			})
			assert.True(t, strong, "plan %d: %s fits by %v", i, c.Check, c.Sources)
		}
		for name, spoil := range spoils {
			spoilt := p
			if !spoil(&spoilt) {
				continue
			}
			tried[name]++
			v := spoilt.scene().run(t)
			assert.NotEqual(t, Fits, v.Outcome, "plan %d, %s: %+v\n%s", i, name, spoilt, dump(v))
		}
	}
	for name := range spoils {
		assert.NotZero(t, tried[name], "%s was never tried", name)
	}
}
