package fit

import (
	"flag"
	"fmt"
	"maps"
	"os"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"

	"fitcheck/core/fit/check"
	"fitcheck/internal/pagetest"
)

// said are the reasons that scenes made the checks give, each with the scene of the
// first name.
var (
	saidMu   sync.Mutex
	said     = map[string]check.Shown{}
	verdicts = map[string]string{}
)

// record keeps the reasons of a scene.
func record(name string, v *Verdict) {
	if name == "" {
		return
	}
	saidMu.Lock()
	defer saidMu.Unlock()
	for c := range v.All() {
		if had, ok := said[c.Code]; !ok || name < had.When {
			said[c.Code] = check.Shown{When: name, Says: c.Because}
		}
	}
	if text := told(v); verdicts[name] == "" || text < verdicts[name] {
		verdicts[name] = text
	}
}

// told is all that a verdict says, a line for each thing.
func told(v *Verdict) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s: %s for %s, release %q\n", v.Package, v.Outcome, v.Device, v.Release)
	lines := func(of string, all []Check) {
		for _, c := range all {
			fmt.Fprintf(&b, "%s%s/%s %s: %s %q, %q: %s; %s\n", of, c.Check, c.Component, c.Outcome, c.Code, c.Device, c.Package, c.Because, c.Advice)
			if c.Outcome == NotApplicable {
				continue
			}
			for _, s := range c.Sources {
				fmt.Fprintf(&b, "%s%s/%s by %s %q %s\n", of, c.Check, c.Component, s.Side, s.Value, s.Source.Where())
			}
		}
	}
	lines("", v.Checks)
	for _, m := range v.Members {
		fmt.Fprintf(&b, "%s, %s: %s\n", m.Name, m.About, m.Verdict)
		for _, c := range m.Chosen {
			fmt.Fprintf(&b, "%s: %s %s %q of %s, version %q from %q, into slot %q, %d stretches\n", m.Name, "chosen for", c.Component, c.Config, c.Item, c.Version, c.From, c.Slot, len(c.Coverage))
		}
		for _, o := range m.Others {
			fmt.Fprintf(&b, "%s: passed over %+v\n", m.Name, o)
		}
		lines(m.Name+" ", m.Checks)
	}
	for _, n := range v.Notes {
		fmt.Fprintf(&b, "note: %s\n", n)
	}
	for _, n := range v.Next {
		fmt.Fprintf(&b, "next: %s\n", n)
	}
	if v.Weakest != nil {
		fmt.Fprintf(&b, "weakest: %+v\n", *v.Weakest)
	}
	return keys.ReplaceAllString(b.String(), "key …")
}

// keys are made anew by each run.
var keys = regexp.MustCompile(`key [0-9a-f]{16}`)

const (
	shownFile    = "check/examples.txt"
	verdictsFile = "testdata/verdicts.txt"
	// clean is the scene from which the others are told by what differs.
	clean = "clean fit"
)

// verdictsPage tells of each scene in what its verdict differs from the clean one.
func verdictsPage() string {
	var b strings.Builder
	fmt.Fprintf(&b, "## %s\n%s", clean, verdicts[clean])
	base := strings.Split(verdicts[clean], "\n")
	for _, name := range slices.Sorted(maps.Keys(verdicts)) {
		if name == clean {
			continue
		}
		fmt.Fprintf(&b, "\n## %s\n", name)
		here := strings.Split(verdicts[name], "\n")
		for _, of := range []struct {
			sign     string
			all, not []string
		}{{"-", base, here}, {"+", here, base}} {
			for _, l := range of.all {
				if !slices.Contains(of.not, l) {
					fmt.Fprintf(&b, "%s %s\n", of.sign, l)
				}
			}
		}
	}
	return b.String()
}

// The examples of reasons that explain and docs/codes.md show are what scenes made the
// checks say. That each reason has one is held where all commands are at hand.
func TestMain(m *testing.M) {
	status := m.Run()
	if status == 0 && flag.Lookup("test.run").Value.String() == "" && flag.Lookup("test.fuzz").Value.String() == "" && flag.Lookup("test.list").Value.String() == "" && flag.Lookup("test.skip").Value.String() == "" {
		status = holdCodes()
	}
	os.Exit(status)
}

// firstDifference shows the first line in which two texts differ.
func firstDifference(want, got string) string {
	w, g := strings.Split(want, "\n"), strings.Split(got, "\n")
	for i := range min(len(w), len(g)) {
		if w[i] != g[i] {
			return fmt.Sprintf("line %d\n- %s\n+ %s\n", i+1, w[i], g[i])
		}
	}
	return fmt.Sprintf("%d lines, and there are %d\n", len(w), len(g))
}

func holdCodes() int {
	var b strings.Builder
	status := 0
	for _, code := range slices.Sorted(maps.Keys(said)) {
		fmt.Fprintf(&b, "%s\t%s\t%s\n", code, said[code].When, strings.ReplaceAll(said[code].Says, "\n", " "))
	}
	for file, text := range map[string]string{shownFile: b.String(), verdictsFile: verdictsPage()} {
		if pagetest.Update() {
			if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
				fmt.Println(err)
				status = 1
			}
			continue
		}
		have, err := os.ReadFile(file)
		if err != nil || string(have) != text {
			fmt.Printf("FAIL: %s is out of date; where the change is meant: go test ./core/fit -update\n%s", file, firstDifference(string(have), text))
			status = 1
		}
	}
	return status
}
