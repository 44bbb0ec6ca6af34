package plan

import (
	"archive/zip"
	"bytes"
	"context"
	"crypto/sha256"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"fitcheck/core/archive"
	"fitcheck/core/device"
	"fitcheck/core/fit"
	"fitcheck/core/path"
	"fitcheck/core/rulebook"
	"fitcheck/core/survey"
	"fitcheck/demo"
	"fitcheck/internal/pagetest"
)

// lineBook is a rulebook of a made-up line, each thing that it says in a line of its own.
const lineBook = `kind: rulebook
title: tram routers
revised: 2026-10-01
sources:
  N: notes 4
  G: guide 2
models:
  TR-1:
    families: [f, g]
    slot: 8MiB
    memory: 64MiB
    revisions:
      A1: {arch: arm, boards: ["tram,tr1"]}
      A2: {arch: arm, boards: ["tram,tr1-a2"]}
  TR-2:
    families: [f]
    arch: arm
  TR-0: {families: [f], arch: arm}
  TR-9: {families: [f], arch: arm}
families:
  f:
    title: first
    components:
      boot: {title: loader}
      main: {title: system}
    factory_reset:
      starts: other-slot
      address: 10.77.0.1
      login: by the sticker
  g:
    components: {main: {title: system}}
    factory_reset: "2.0"
versions:
  default: {pattern: '^(?P<a>\d+)\.(?P<b>\d+)$', order: [a, b]}
packages:
  - title: bundle
    file: '^tr-(?P<family>[fg])-(?P<version>[\d.]+)\.zip$'
    handling: unpacked
    manifest:
      item: list.txt
      form: lines
      heading: '^\[(?P<models>[^\]]+)\]$'
      record: '^(?P<component>\w+) (?P<file>\S+) (?P<version>\S+) (?P<revisions>\S+) (?P<sha256>\S+)$'
    items:
      - match: '**/*.img'
        title: '^(?P<model>TR-\d) (?P<version>\S+)$'
  - title: image for recovery
    file: '^tr-rescue-(?P<version>[\d.]+)\.img$'
    items:
      - match: '*.img'
        component: main
        title: '^(?P<model>TR-\d) (?P<version>\S+)$'
releases:
  - version: "1.0"
    families: [f]
    brings: {boot: "1.1"}
    source: N
  - version: "1.5"
    families: [f]
    date: 2026-03-02
    minutes: {install: 4, outage: 2}
    source: N
  - version: "2.0"
    families: [f]
    date: 2026-09-02
    channel: [current, long-term]
    models: [TR-1, TR-2]
    revisions: [A1, A2]
    brings: {boot: "1.2"}
    drops: [TR-0]
    resets_config: true
    minutes: {install: 5-8, outage: 3}
    needs:
      - {component: boot, within: '>=1.0', models: [TR-1], revisions: [A1], families: [f], source: G, why: "it reads the new table"}
      - {companion: mesh, within: '>=3'}
      - {storage_free: 2MiB}
      - {memory: 32MiB}
      - {attached: TR-9}
      - {feature: stacking}
      - {memory: 999MiB, models: [TR-0]}
      - {memory: 999MiB, families: [g]}
      - {feature: routing, revisions: [A2]}
    checks_after:
      - the lamp is green
      - {say: no errors, must_not_show: 'error', new_only: true}
    source: N
  - version: "3.0"
    families: [g]
    withdrawn: loses the table
    source: N
certified:
  - name: autumn
    versions:
      - {model: TR-1, main: "2.0"}
hops:
  upward: open
  downward: closed
  rules:
    - {from: "1.0", to: "2.0", allow: false, via: "1.5", models: [TR-1], source: N, why: tried}
    - {from: "2.0", to: "1.5", allow: true, resets_config: true, source: N}
    - {from_family: f, to_family: g, allow: true, resets_config: true, source: N}
install:
  fetched_by: [manager, person]
  fetches: images
  members: rolling
  restart: command
  root: /tr
  strip: 1
  written_to: slot
procedure:
  backup: 'save {{.File}}'
  transfer: 'get {{.File}} from {{.Server}}'
  restart: 'reload'
checks_after:
  - {say: the neighbours are there, must_show: 'neighbour'}
remedies:
  - {shows: 'no space', do: delete the other image, source: G}
transfer:
  protocol: tftp
  largest: 32MiB
  longest_name: 63
  blocksize: false
recovery:
  - models: [TR-1]
    revisions: [A1]
    enter:
      - {do: hold the button, tries: 3, signs: the lamp blinks}
      - {do: short the pins, risk: the flash may be written over}
    signs: {ping_ttl: 200, lamp: blinks}
    not_yet: {ping_ttl: 64}
    network:
      device: 10.77.0.1
      host: 10.77.0.2/24
    transfer:
      direction: serve
      file: tr.img
      port: 6969
      within: 20s
    accepts: {formats: [uimage], components: [main], largest: 8MiB, wrapped: false}
    afterwards:
      wait: 6m
      note: the lamp is green
      signs: {ping_ttl: 128}
    source: G
`

// lineSequence takes the steps into its own hands.
const lineSequence = `sequence:
  - step: look
    act: look at the lamp
    see: it is green
    if_not: wait
    wait: 3m-6m
    tries: 2
    when: first_hop
  - step: backup
    when: resets_config
  - {step: transfer, each: component}
  - step: stored
    each: member
    do: 'show images of {{.Member}}'
    must_show: 'image {{.Version}}'
    must_not_show: failed
    when: [group, slotted]
  - {step: announce, when: last_hop}
  - {step: restart, each: member}
  - {step: check, each: member}
  - step: back
`

// lineDevices are devices of the line, each thing that they say in a line of its own.
var lineDevices = map[string]string{
	"one": `kind: device
name: one
model: TR-1
revision: A1
serial: S1
family: f
installed:
  boot: "1.1"
  main: "1.0"
slots:
  - {name: A, main: "1.0", active: true}
  - {name: B}
storage_free: 20MiB
memory: 64MiB
companions: {mesh: "3"}
features: [stacking]
attached: [TR-9]
config: {saved: true, backed_up: 2026-09-01}
entitled: {from: 2025-01-01, until: 2026-12-31}
address: 10.0.0.9/24
`,
	"stack": `kind: device
name: stack
group: stack
uniform: true
family: f
slots: [{name: A, main: "1.5", active: true}, {name: B}]
companions: {mesh: "3"}
features: [stacking, routing]
attached: [TR-9]
storage_free: 20MiB
memory: 64MiB
installed: {boot: "1.1", main: "1.5"}
members:
  - {name: m1, model: TR-1, revision: A1, serial: S2}
  - {name: m2, model: TR-1, revision: A2, serial: S3}
  - name: m3
    model: TR-2
    revision: A1
    joining: true
    installed: {main: "1.0"}
    slots: [{name: A, main: "1.0", active: true}, {name: B}]
`,
	"kept": `kind: device
name: kept
model: TR-1
revision: A1
serial: S6
family: f
installed: {boot: "1.2", main: "1.5"}
slots: [{name: A, main: "1.5", active: true}, {name: B, main: "1.0"}]
storage_free: 20MiB
companions: {mesh: "3"}
features: [stacking]
attached: [TR-9]
managed_by: keeper
`,
	"newer": `kind: device
name: newer
model: TR-1
revision: A1
serial: S5
family: f
installed: {boot: "1.2", main: "2.0"}
slots: [{name: A, main: "2.0", active: true}, {name: B, main: "1.5"}]
`,
	"dark": `kind: device
name: dark
model: TR-1
revision: A1
serial: S4
family: f
installed: {boot: "1.1", main: "1.0"}
slots: [{name: A, main: "1.0", active: true}, {name: B, main: "1.5"}]
state: boot-loader
`,
}

// linePackages lays the downloads of the line in a folder.
func linePackages(t *testing.T, dir string) []string {
	var out []string
	for _, release := range []string{"1.5", "2.0"} {
		list := "[TR-1, TR-2]\n"
		var b bytes.Buffer
		w := zip.NewWriter(&b)
		add := func(name string, data []byte) {
			f, err := w.Create("tr/" + name)
			require.NoError(t, err)
			_, err = f.Write(data)
			require.NoError(t, err)
		}
		for _, i := range []struct {
			component, name, version string
			os, kind                 byte
		}{{"main", "main.img", release, 5, 2}, {"boot", "boot.bin", "1.2", 17, 5}} {
			data := demo.UImage(i.os, 2, i.kind, "TR-1 "+i.version, []byte(strings.Repeat(i.name+i.version, 300)))
			list += fmt.Sprintf("%s %s %s A1,A2 %x\n", i.component, i.name, i.version, sha256.Sum256(data))
			add(i.name, data)
		}
		add("list.txt", []byte(list))
		require.NoError(t, w.Close())
		out = append(out, filepath.Join(dir, "tr-f-"+release+".zip"))
		require.NoError(t, os.WriteFile(out[len(out)-1], b.Bytes(), 0o644))
	}
	out = append(out, filepath.Join(dir, "tr-rescue-2.0.img"))
	require.NoError(t, os.WriteFile(out[2], demo.UImage(5, 2, 2, "TR-1 2.0", []byte(strings.Repeat("rescue", 400))), 0o644))
	return out
}

// planned is all that is said of a device by a rulebook: of the way, of the packages, of the steps and of recovery.
func planned(t *testing.T, book, deviceText string, packages []string) []string {
	rb, err := rulebook.Read("tr.yaml", []byte(strings.ReplaceAll(book, "list.txt", "tr/list.txt")))
	if err != nil {
		return []string{"refused"} // what is said then is held elsewhere
	}
	d, err := device.Read("d.yaml", []byte(deviceText))
	if err != nil {
		return []string{"refused"}
	}
	rules := func(model string) *rulebook.Rulebook {
		if _, ok := rb.FindModel(model); ok {
			return rb
		}
		return nil
	}
	shelf := &Shelf{Rules: rules}
	for _, p := range packages {
		s, err := survey.Run(context.Background(), p, survey.Options{Limits: archive.DefaultLimits(), Rulebooks: []*rulebook.Rulebook{rb}})
		if err != nil {
			return []string{err.Error()}
		}
		shelf.Surveys = append(shelf.Surveys, s)
	}
	var out []string
	line := func(what string, v any) { out = append(out, what+" "+pagetest.Line(v)) }
	checks := func(of string, all []fit.Check) {
		for _, c := range all {
			var by []string
			for _, s := range c.Sources {
				by = append(by, fmt.Sprintf("%s %q %s", s.Side, s.Value, s.Source.Where()))
			}
			out = append(out, fmt.Sprintf("%s%s/%s %s %s, %q for %q: %s; %s, by %s", of, c.Check, c.Component, c.Outcome, c.Code, c.Package, c.Device, c.Because, c.Advice, strings.Join(by, ", ")))
		}
	}
	to := "2.0"
	if d.Name.Text == "newer" {
		to = "1.5"
	}
	if d.State.Text == "boot-loader" {
		r := Recover(d, rules, shelf.Surveys, fit.Options{})
		line("recovery", []any{r.Verdict, r.Why})
		if r.Chosen != nil {
			checks("recovery by "+r.Chosen.Address()+": ", r.Chosen.Checks)
		}
		for _, i := range r.Steps {
			i.Proofs = nil
			line("recovery, step", i)
		}
		return out
	}
	res, err := path.Find(path.Request{Device: d, Rules: rules, Goal: path.Goal{Version: to}, Options: path.Options{All: 3}})
	if err != nil {
		return append(out, "no way: "+err.Error())
	}
	for _, a := range res.Plans {
		line("way, found", a.Found)
		for _, h := range a.Hops {
			line("way, hop", h)
		}
		line("way, blocked", a.Blocked)
		line("way, unsettled", a.Unsettled)
		line("way, notes", a.Notes)
		line("way, back", a.Back)
	}
	x := &Target{Name: d.File, Device: d, Rules: rules, Result: res, Keep: shelf.Keeps(d)}
	x.Steps = shelf.Steps(d, x.Hops())
	for i := range x.Steps {
		var v *fit.Verdict
		if len(x.Steps[i].Packages) > 0 {
			v = x.Steps[i].Judge(rules, fit.Options{})
			checks("", v.Checks)
			for _, m := range v.Members {
				out = append(out, fmt.Sprintf("%s, %s: %s", m.Name, m.About, m.Verdict))
				checks(m.Name+" ", m.Checks)
				line(m.Name+" takes", m.Chosen)
				line(m.Name+" leaves", m.Others)
			}
		}
		x.Verdicts = append(x.Verdicts, v)
	}
	files, err := Arrange(x.Files(), x.Transfer)
	if err != nil {
		return append(out, "not laid out: "+err.Error())
	}
	for _, s := range Write(x, files, RunbookOptions{Server: "192.0.2.1"}).Sections {
		line("section", []any{s.Title, s.Minutes, s.At})
		for _, i := range s.Steps {
			i.Proofs = nil
			line("step", i)
		}
	}
	return out
}

// TestWhatEachRuleBrings holds what is said of devices by a rulebook, and how that changes when a line of the rulebook
// or of the device file is missing, or a value is another, against testdata/rules.txt.
func TestWhatEachRuleBrings(t *testing.T) {
	var b strings.Builder
	packages := linePackages(t, t.TempDir())
	told := map[string]bool{}
	for _, of := range []struct{ name, book, more string }{{"built-in steps", "", lineBook}, {"a sequence", lineBook, lineSequence}} {
		for _, name := range slices.Sorted(maps.Keys(lineDevices)) {
			fmt.Fprintf(&b, "## %s, by a rulebook with %s\n", name, of.name)
			sound := planned(t, of.book+of.more, lineDevices[name], packages)
			var sum pagetest.Sum
			count := 0
			tell := func(what, sign string, some, rest []string) {
				for _, l := range some {
					if slices.Contains(rest, l) {
						continue
					}
					sum.Add("%s%s%s", what, sign, l)
					if alike := sign + places.ReplaceAllString(l, "@"); !told[alike] {
						told[alike] = true
						fmt.Fprintf(&b, "%s%s%s\n", what, sign, pagetest.Cut(l, 180))
					}
				}
			}
			tell("", "", sound, nil)
			look := func(what string, now []string) {
				tell(what, ": - ", sound, now)
				tell(what, ": + ", now, sound)
				if count++; count%10 == 0 {
					fmt.Fprintf(&b, "to %s: in all %s\n", what, &sum)
				}
			}
			turnLines(of.more, func(what, text string) {
				look("rulebook "+what, planned(t, of.book+text, lineDevices[name], packages))
			})
			turnLines(lineDevices[name], func(what, text string) {
				look("device "+what, planned(t, of.book+of.more, text, packages))
			})
			fmt.Fprintf(&b, "to the end: in all %s\n", &sum)
		}
	}
	pagetest.Hold(t, filepath.Join("testdata", "rules.txt"), b.String())
}

// turnLines takes lines and pairs out of a text, and gives its values others.
func turnLines(text string, look func(what, text string)) {
	at := 0
	for i, l := range strings.SplitAfter(text, "\n") {
		before, after := text[:at], text[at+len(l):]
		at += len(l)
		look(fmt.Sprintf("without line %d", i+1), before+after)
		for _, m := range pairs.FindAllStringIndex(l, -1) {
			look(fmt.Sprintf("line %d without %q", i+1, l[m[0]:m[1]]), before+l[:m[0]]+l[m[1]:]+after)
		}
		for _, m := range values.FindAllStringSubmatchIndex(l, -1) {
			for _, other := range []string{`"7.0"`, "A2"} {
				look(fmt.Sprintf("line %d, %s for %q", i+1, other, l[m[2]:m[3]]), before+l[:m[2]]+other+l[m[3]:]+after)
			}
		}
	}
}

var (
	places = regexp.MustCompile(`"(Line|Column|Offset|Size)":\d+,?|[\w.-]+:\d+(:\d+)?|\d+`)
	pairs  = regexp.MustCompile(`, [a-z_]+: (?:[^\s{\[',}][^,}\]]*|'[^']*')`)
	values = regexp.MustCompile(`\w: ([^\s{\['][^,}\]\n]*|'[^']*')`)
)
