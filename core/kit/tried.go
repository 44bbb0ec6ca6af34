package kit

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/agext/levenshtein"

	"fitcheck/core/device"
	"fitcheck/core/rulebook"
	y "fitcheck/core/yamlfile"
)

// The patterns of a rulebook are tried on what lies in its kit: the names of packages, and
// captures. A pattern that reads nothing there is told only where something there is like what
// it should read, and nobody else reads it.

// neighbours are what lies in the kit around a rulebook.
type neighbours struct {
	rb       *rulebook.Rulebook
	others   []*rulebook.Rulebook
	packages []string // names
	captures []capture
	found    y.Errors
}

type capture struct {
	name  string
	lines []device.TextLine
}

// Bounds of what is tried.
const (
	maxTriedPackages = 2000
	maxTriedCaptures = 100
	maxTriedBytes    = 256 << 10
)

// tried warns of patterns of a rulebook by what its kit holds; of one that lies in no kit, of
// nothing.
func tried(path string, rb *rulebook.Rulebook) y.Errors {
	if filepath.Base(filepath.Dir(path)) != "rulebooks" {
		return nil
	}
	dir := filepath.Dir(filepath.Dir(path))
	n := &neighbours{rb: rb}
	n.readOthers(path)
	n.readPackages(filepath.Join(dir, "packages"))
	n.readCaptures(filepath.Join(dir, "captures"))
	n.names()
	n.claims()
	n.lines()
	slices.SortStableFunc(n.found, func(a, b *y.Error) int { return a.Spot.Line - b.Spot.Line })
	return n.found
}

func (n *neighbours) warn(at y.Spot, advice, format string, args ...any) {
	n.found = append(n.found, &y.Error{File: n.rb.File, Spot: y.Spot{Line: max(1, at.Line), Column: max(1, at.Column)}, Message: fmt.Sprintf(format, args...), Advice: advice})
}

func (n *neighbours) readOthers(path string) {
	all, _ := filepath.Glob(filepath.Join(filepath.Dir(path), "*.y*ml"))
	for _, p := range all {
		if filepath.Base(p) == filepath.Base(path) {
			continue
		}
		data, err := ReadText(p)
		if err != nil {
			continue
		}
		if rb, err := rulebook.Read(filepath.ToSlash(p), data); err == nil {
			n.others = append(n.others, rb)
		}
	}
}

func (n *neighbours) readPackages(dir string) {
	entries, _ := os.ReadDir(dir)
	for _, e := range entries[:min(len(entries), maxTriedPackages)] {
		n.packages = append(n.packages, e.Name())
	}
}

func (n *neighbours) readCaptures(dir string) {
	entries, _ := os.ReadDir(dir)
	for _, e := range entries[:min(len(entries), maxTriedCaptures)] {
		info, err := e.Info()
		if err != nil || !info.Mode().IsRegular() || info.Size() > maxTriedBytes {
			continue
		}
		data, err := ReadText(filepath.Join(dir, e.Name()))
		if err != nil {
			continue
		}
		if lines, err := device.Lines("captures/"+e.Name(), data); err == nil {
			n.captures = append(n.captures, capture{"captures/" + e.Name(), lines})
		}
	}
}

// claimed tells whether some rulebook reads a package's name.
func (n *neighbours) claimed(name string) bool {
	return slices.ContainsFunc(append(slices.Clone(n.others), n.rb), func(rb *rulebook.Rulebook) bool {
		return slices.ContainsFunc(rb.Packages, func(p rulebook.Package) bool { return p.File.Set() && p.File.MatchString(name) })
	})
}

// nearName is how alike a name and what a pattern reads must be at least to be told together.
const nearName = 0.8

// names finds patterns of names that read no package, where one that nobody reads is like it.
func (n *neighbours) names() {
	var free []string
	for _, p := range n.packages {
		if !n.claimed(p) {
			free = append(free, p)
		}
	}
	if len(free) == 0 {
		return
	}
	versions := n.rb.Known()
	for i := range n.rb.Packages {
		p := &n.rb.Packages[i]
		if !p.File.Set() || slices.ContainsFunc(n.packages, func(name string) bool { return p.File.MatchString(name) }) {
			continue
		}
		best, nearest := nearName, ""
		for _, sample := range rulebook.Samples(p.File.Regexp, versions[:min(len(versions), 4)]) {
			for _, name := range free {
				if s := levenshtein.Similarity(sample, name, nil); s > best {
					best, nearest = s, name
				}
			}
		}
		if nearest != "" {
			n.warn(p.File.Spot, "correct the pattern, if it is meant to read it", "the pattern reads no package of the kit, and nothing reads %s, which is like it", nearest)
		}
	}
}

// claims finds names that a pattern reads, and one of another rulebook, too.
func (n *neighbours) claims() {
	versions := n.rb.Known()
	for i := range n.rb.Packages {
		p := &n.rb.Packages[i]
		if !p.File.Set() {
			continue
		}
		names := slices.DeleteFunc(slices.Clone(n.packages), func(name string) bool { return !p.File.MatchString(name) })
		names = append(names, rulebook.Samples(p.File.Regexp, versions[:min(len(versions), 4)])...)
		for _, other := range n.others {
			for k := range other.Packages {
				o := &other.Packages[k]
				at := slices.IndexFunc(names, func(name string) bool { return o.File.Set() && o.File.MatchString(name) })
				if at >= 0 {
					n.warn(p.File.Spot, "make one of the two patterns narrower", "%s is a name that %s reads, too (line %d): which of the two rulebooks serves it is an accident", names[at], other.File, o.Line)
					break
				}
			}
		}
	}
}

// lines finds patterns of captures that read no line of the captures in which their rule
// recognises its own, where a line is like it; and rules that recognise none, where a capture
// that nobody recognises holds a line that is like it.
func (n *neighbours) lines() {
	var strangers []capture
	rules := n.rb.CaptureRules()
	for _, c := range n.captures {
		known := false
		for _, rb := range append(slices.Clone(n.others), n.rb) {
			for _, r := range rb.CaptureRules() {
				known = known || recognises(r, c)
			}
		}
		if !known {
			strangers = append(strangers, c)
		}
	}
	for i, rule := range rules {
		spec := &n.rb.Captures[i]
		var own []capture
		for _, c := range n.captures {
			if recognises(rule, c) {
				own = append(own, c)
			}
		}
		if len(own) == 0 {
			if where, text := nearestLine(rule, strangers); text != "" {
				n.warn(spec.Recognise.Spot, "correct the pattern, if it is meant to recognise it", "recognise finds none of the kit's captures, and %s is like it: %s", where, text)
			}
			continue
		}
		for _, part := range []struct {
			all  []device.KeyPattern
			spot func(key string) y.Spot
		}{{rule.Read, func(key string) y.Spot { e, _ := spec.Read.Get(key); return e.Spot }}, {rule.Each, func(key string) y.Spot { e, _ := spec.Each.Get(key); return e.Spot }}} {
			for _, k := range part.all {
				if where, text := silent(k, own, rule); text != "" {
					n.warn(part.spot(k.Key), "correct the pattern, if it is meant to read it", "the pattern for %s reads no line of the kit's captures, and %s is like it: %s", k.Key, where, text)
				}
			}
		}
	}
}

func recognises(r device.CaptureRule, c capture) bool {
	return slices.ContainsFunc(c.lines, func(l device.TextLine) bool { return r.Recognise.MatchString(l.Text) })
}

// nearestLine is the line of captures that is most like what a rule recognises.
func nearestLine(r device.CaptureRule, all []capture) (where, text string) {
	best := nearLine
	for _, c := range all {
		for _, l := range c.lines {
			if s := rulebook.Alike(r.Recognise, l.Text); s > best {
				best, where, text = s, l.At.Where(), strings.TrimSpace(l.Text)
			}
		}
	}
	return where, text
}

// nearLine is how alike a line and a pattern must be at least to be told together, where nobody
// asked for it.
const nearLine = 0.6

// silent is the line that is most like what a pattern reads, and that no other of the rule reads,
// where it reads none.
func silent(k device.KeyPattern, all []capture, rule device.CaptureRule) (where, text string) {
	best := nearLine
	read := func(l device.TextLine) bool { // by another pattern, or as what the rule is known by
		reads := func(o device.KeyPattern) bool { return o.Pattern.MatchString(l.Text) }
		return rule.Recognise.MatchString(l.Text) || slices.ContainsFunc(rule.Read, reads) || slices.ContainsFunc(rule.Each, reads)
	}
	for _, c := range all {
		for i, l := range c.lines {
			if _, _, m := device.Window(k.Pattern, c.lines, i); m != nil {
				return "", ""
			}
			if read(l) {
				continue
			}
			if s := rulebook.Alike(k.Pattern, l.Text); s > best {
				best, where, text = s, l.At.Where(), strings.TrimSpace(l.Text)
			}
		}
	}
	return where, text
}
