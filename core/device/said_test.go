package device_test

import (
	"fmt"
	"maps"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"fitcheck/core/device"
	"fitcheck/core/rulebook"
	"fitcheck/demo"
	"fitcheck/internal/pagetest"
)

// TestWhatIsSaid holds what is read of the demo kit's captures and device files, and how that changes when a line is
// missing or another, against testdata/said.txt, so that a change of what is read is seen.
func TestWhatIsSaid(t *testing.T) {
	var rules []device.CaptureRule
	sources := map[string]string{"inventory.csv": inventory, "list.json": list, "devices/whole.yaml": whole, "devices/group.yaml": wholeGroup}
	for _, f := range demo.Kit() {
		switch {
		case strings.HasPrefix(f.Path, "rulebooks/"):
			rb, err := rulebook.Read(f.Path, f.Data)
			require.NoError(t, err)
			rules = append(rules, rb.CaptureRules()...)
		case strings.HasPrefix(f.Path, "captures/"), strings.HasPrefix(f.Path, "devices/"), strings.HasSuffix(f.Path, "quay-2.txt"):
			sources[f.Path] = string(f.Data)
		}
	}
	var b strings.Builder
	told := map[string]bool{}
	for _, name := range slices.Sorted(maps.Keys(sources)) {
		fmt.Fprintf(&b, "## %s\n", name)
		sound := read(name, sources[name], rules)
		b.WriteString(strings.Join(sound, "\n") + "\n")
		var sum pagetest.Sum
		look := func(what, text string) {
			found := read(name, text, rules)
			for _, mark := range []struct {
				sign        string
				some, other []string
			}{{"-", sound, found}, {"+", found, sound}} {
				for _, l := range mark.some {
					sum.Add("%s %s %s", what, mark.sign, l)
					if alike := mark.sign + varying.ReplaceAllString(l, "…"); !slices.Contains(mark.other, l) && !told[alike] {
						told[alike] = true
						fmt.Fprintf(&b, "%s: %s %s\n", what, mark.sign, l)
					}
				}
			}
		}
		lines := strings.Split(sources[name], "\n")
		for i, line := range lines {
			with := func(other ...string) string {
				return strings.Join(slices.Concat(lines[:i], other, lines[i+1:]), "\n")
			}
			look(fmt.Sprintf("line %d away", i+1), with())
			look(fmt.Sprintf("line %d twice", i+1), with(line, line))
			look(fmt.Sprintf("line %d cut", i+1), with(line[:len(line)/2]))
			look(fmt.Sprintf("line %d in capitals", i+1), with(strings.ToUpper(line)))
			if m := value.FindStringSubmatchIndex(line); m != nil {
				for _, other := range []string{"", "nonsense", "-7", "[a, b]"} {
					look(fmt.Sprintf("line %d as %q", i+1, other), with(line[:m[2]]+other+line[m[3]:]))
				}
			}
			if i%8 == 7 || i == len(lines)-1 {
				fmt.Fprintf(&b, "to line %d: in all %s\n", i+1, &sum)
			}
		}
	}
	pagetest.Hold(t, filepath.Join("testdata", "said.txt"), b.String())
}

// read lists what a source says, and what a device file is refused for.
func read(name, text string, rules []device.CaptureRule) (out []string) {
	if strings.HasSuffix(name, ".csv") || name == "list.json" {
		rows, err := device.ReadDevices(name, []byte(text), nil, rules)
		if err != nil {
			return []string{"refused: " + err.Error()}
		}
		for _, r := range rows {
			out = append(out, fmt.Sprintf("device %s: %s", r.Name, strings.Join(valuesOf(r.Reading), "; ")))
		}
		return out
	}
	if strings.HasPrefix(name, "devices/") {
		if _, err := device.Read(name, []byte(text)); err != nil {
			return strings.Split("refused: "+err.Error(), "\n")
		}
	}
	r, err := device.ReadSource(name, []byte(text), rules)
	if err != nil {
		return strings.Split("refused: "+err.Error(), "\n")
	}
	return append(valuesOf(r), fmt.Sprintf("form %s, group %q", r.Form, r.Group))
}

func valuesOf(r *device.Reading) (out []string) {
	if r == nil {
		return nil
	}
	for _, v := range r.Values {
		out = append(out, fmt.Sprintf("%s %s = %q, guess %v", v.Member, v.Key, v.Text, v.Guess))
	}
	return out
}

var (
	value   = regexp.MustCompile(`[:=,]\s*([^:=,{}\[\]]+?)\s*[,}\]]*$`)
	varying = regexp.MustCompile(`[\w./-]+:\d+(:\d+)?|\d+|known are .*|did you mean .*`)
)

const inventory = `name;model;revision;serial;main;faults
cabinet-21;QM-8T;A2;0417-300;8.2.1;fan 2 slow;PoE off
cabinet-22;QM-8T;B1;0529-301;8.3.1;
;QM-8T;A2;0417-302;8.2.1;
;QM-24T;;;8.2.1;
`

const list = `[{"name": "cabinet-31", "model": "QM-8T", "revision": "A2", "features": "poe vlan", "faults": "fan 2 slow|no light"},
 {"name": "cabinet-32", "model": "QM-8T", "serial": 77, "boards": ["a", "b"]}]
`

// whole and wholeGroup are device files in which every key is used.
const whole = `kind: device
name: cab-1
model: QM-8T
revision: A2
serial: "0417-221"
arch: arm
boards: ["quillmere,qm8t-a"]
region: EU
platform: virtual
hypervisor: kvm
family: tram
features: [poe, vlan]
installed:
  boot: 3.1.4
  main: 8.2.1
slots:
  - name: A
    main: 8.2.1
    active: true
  - name: B
    main: 7.9.1
    loader: 2.0
    next: true
storage_free: 20MiB
memory: 256MiB
companions:
  controller: 5.1
attached:
  - model: VR-310
    name: mast
    serial: R7
    main: "4.2"
  - VR-210
entitled_until: 2027-01-01
config:
  saved: true
  backed_up: 2026-11-01
state: boot-loader
address: 192.0.2.7/24
managed_by: keeper
not_together: [cab-2, cab-3]
start:
  saved: false
files:
  - file: sys-7.bin
    component: main
    version: 7.2.0
    size: 7113
    md5: 0123456789abcdef0123456789abcdef
    next: true
job:
  state: running
  percent: 22
  reason: fetching
faults: ["fan 2 slow"]
read_from:
  model: cab.txt:3
  installed.main: cab.txt:4 (guess)
  slots.A: cab.txt:5
`

const wholeGroup = `kind: device
name: stack-1
group: stack
uniform: true
entitled:
  from: 2025-01-01
  until: 2027-01-01
members:
  - name: one
    model: QM-8T
    installed: {main: 8.2.1}
  - name: two
    model: QM-24T
    joining: true
    installed: {main: 8.0.3}
`
