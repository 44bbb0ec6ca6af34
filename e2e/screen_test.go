package e2e

import (
	"crypto/sha256"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/demo"
	"fitcheck/e2e/program"
)

// isOneScreen demands that an answer is seen at once and is no wider than 100 columns, but for a
// word or a command that stands alone on its line, so that it can be copied.
func isOneScreen(t *testing.T, r program.Ran, most int, args ...string) {
	t.Helper()
	require.NotEmpty(t, r.Out, "%v: %s", args, r.Errout)
	lines := strings.Split(strings.TrimRight(r.Out, "\n"), "\n")
	assert.LessOrEqual(t, len(lines), most, "%v:\n%s", args, r.Out)
	first, _, _ := strings.Cut(lines[0], "  ")
	assert.Equal(t, strings.ToUpper(first), first, "the verdict is the first line: %s", lines[0])
	for _, l := range lines {
		alone := strings.TrimSpace(l)
		if at := strings.Index(alone, "fitcheck "); utf8.RuneCountInString(l) > 100 && at != 0 && strings.Contains(alone, " ") {
			assert.Fail(t, "wider than the screen", "%v: %s", args, l)
		}
	}
}

// Nothing scrolls a verdict away: whatever device of the demo is held against whatever
// package, the answer is one screen, and begins with the verdict.
func TestAVerdictIsOneScreen(t *testing.T) {
	t.Parallel()
	kit := program.WriteKit(t)
	devices, err := filepath.Glob(filepath.Join(kit, "devices/*.yaml"))
	require.NoError(t, err)
	packages, err := os.ReadDir(filepath.Join(kit, "packages"))
	require.NoError(t, err)
	require.NotEmpty(t, devices)
	asked := 0
	for _, d := range devices {
		name := strings.TrimSuffix(filepath.Base(d), ".yaml")
		for i, p := range packages {
			if i%5 != len(name)%5 { // a fifth of them is enough
				continue
			}
			args := []string{"match", "-device", name, "packages/" + p.Name()}
			r := program.Call(t, kit, args...)
			if r.Status > 3 { // it cannot be read
				continue
			}
			most := 40
			if r.Status == 0 && !strings.Contains(r.Out, " is a stack of") && !strings.Contains(r.Out, " is a cluster of") {
				most = 25
			}
			isOneScreen(t, r, most, args...)
			asked++
		}
		for _, args := range [][]string{{"path", "-device", name, "-to", "latest"}, {"match", "-device", name, "packages"}, {"recover", "-device", name}} {
			if r := program.Call(t, kit, args...); r.Status <= 3 && r.Status != 2 {
				isOneScreen(t, r, 40, args...)
			}
		}
	}
	assert.Greater(t, asked, 10)
	for _, p := range packages {
		for _, args := range [][]string{{"survey", "packages/" + p.Name()}, {"notes", "packages/" + p.Name()}} {
			if r := program.Call(t, kit, args...); r.Status <= 3 {
				isOneScreen(t, r, 40, args...)
			}
		}
	}
	for _, args := range [][]string{
		{"match", "-device", "devices", "packages"}, {"survey", "packages"},
		{"confirm", "-device", "cabinet-07", "-to", "8.4.2", "-after", "captures/cab07-after.txt"},
		{"device", "-out", "new.yaml", "captures/cab07.txt"}, {"device", "-out", "gw.yaml", "captures/ops-gateways.json"},
		{"stage", "-device", "depot-core", "-to", "latest", "-into", "staged"}, {"stage", "-device", "cabinet-12", "-into", "other", "qm-tram-a-8.4.2.zip"},
		{"compare", "qm-tram-8.4.1.zip", "qm-tram-8.4.2.zip"}, {"header", "packages/qm-tram-8.4.2.zip::qm-tram-8.4.2/qm8t-a.img"},
		{"unpack", "-into", "out", "qm-tram-8.4.2.zip"},
	} {
		isOneScreen(t, program.Call(t, kit, args...), 40, args...)
	}

	full := program.Call(t, kit, "match", "-why", "-device", "cabinet-07", "qm-tram-8.4.2.zip")
	assert.Contains(t, full.Out, "What else was checked")
	assert.Greater(t, strings.Count(full.Out, "\n"), 60, "-why shows all of it")
}

// made is a kit that nobody has seen: a line with some components and members, and some packages.
type made struct {
	dir                           string
	components, members, packages int
}

func (m made) component(i int) string {
	return []string{"boot", "main", "poe", "radio", "controller_image", "language_pack", "web_pages", "backup_of_all"}[i]
}

func (m made) model(i int) string { return fmt.Sprintf("LONGNAMED-%d-OUTDOOR-48PX", i%3) }

func (m made) release(i int) string { return fmt.Sprintf("4.%d.%d", i/10, i%10) }

func (m made) file(release, model string, c int) string {
	return fmt.Sprintf("line-%s/%s/%s-of-the-whole-%s.img", release, model, m.component(c), model)
}

// write lays the kit out. One package in five lacks an image, one in seven has a byte flipped.
func (m made) write(t *testing.T, r *rand.Rand) {
	var b strings.Builder
	b.WriteString("kind: rulebook\ntitle: a line with long names\nmodels:\n")
	for i := range 3 {
		fmt.Fprintf(&b, "  %s:\n    families: [line]\n    revisions:\n      A1: {arch: arm, slot: 16MiB}\n      A2: {arch: arm64, slot: 16MiB}\n", m.model(i))
	}
	b.WriteString("families:\n  line:\n    components:\n")
	for c := range m.components {
		fmt.Fprintf(&b, "      %s: {title: the %s}\n", m.component(c), m.component(c))
	}
	b.WriteString(`versions:
  default: {pattern: '^(?P<a>\d+)\.(?P<b>\d+)\.(?P<c>\d+)$', order: [a, b, c]}
packages:
  - title: bundle of a line with long names
    file: '^line-(?P<version>[\d.]+)\.zip$'
    handling: unpacked
    manifest: {item: '**/files.txt', form: lines, record: '^(?P<component>\w+)\s+(?P<file>\S+)\s+(?P<version>\S+)\s+(?P<models>\S+)\s+(?P<revisions>\S+)\s+(?P<sha256>[0-9a-f]{64})$'}
hops: {upward: open, downward: closed, rules: [{from: "<4.0.3", to: ">=4.0.6", allow: false, via: 4.0.4, why: the store of the settings is converted by the release between the two}]}
releases:
`)
	for i := range m.packages {
		fmt.Fprintf(&b, "  - {version: %s, families: [line], minutes: {install: %d, outage: %d}}\n", m.release(i), 5+i%40, 1+i%9)
	}
	program.Write(t, m.dir, "rulebooks/line.yaml", []byte(b.String()))
	for i := range m.packages {
		release := m.release(i)
		files := map[string][]byte{}
		var list strings.Builder
		for k := range 3 {
			for c := range m.components {
				name := m.file(release, m.model(k), c)
				img := demo.UImage(5, 2, 2, m.model(k)+" "+release, []byte(fmt.Sprint(name, strings.Repeat(" words", 30))))
				fmt.Fprintf(&list, "%s %s %s %s A1 %x\n", m.component(c), name[strings.Index(name, "/")+1:], release, m.model(k), sha256.Sum256(img))
				if i%7 == 6 && k == i%3 {
					img = slices.Clone(img)
					img[len(img)-1] ^= 1
				}
				if i%5 != 4 || c != m.components-1 {
					files[name] = img
				}
			}
		}
		files["line-"+release+"/files.txt"] = []byte(list.String())
		program.Write(t, m.dir, "packages/line-"+release+".zip", program.ZipOf(t, files))
	}
	b.Reset()
	unit := func(indent string, i int) {
		fmt.Fprintf(&b, "%smodel: %s\n%srevision: %s\n%sinstalled: {", indent, m.model(i), indent, []string{"A1", "A1", "A2"}[r.IntN(3)], indent)
		for c := range m.components {
			fmt.Fprintf(&b, "%s: 4.0.%d, ", m.component(c), min(c%2, i))
		}
		b.WriteString("}\n")
	}
	if m.members == 1 {
		b.WriteString("kind: device\nname: the-one-and-only-cabinet-of-the-line\n")
		unit("", 0)
	} else {
		b.WriteString("kind: device\nname: the-stack-of-the-line\ngroup: stack\nuniform: true\nmembers:\n")
		for i := range m.members {
			fmt.Fprintf(&b, "  - name: member-%d-of-the-stack\n", i+1)
			unit("    ", i)
		}
	}
	program.Write(t, m.dir, "devices/d.yaml", []byte(b.String()))
	for i := range 30 {
		program.Write(t, m.dir, fmt.Sprintf("many/cabinet-%d.yaml", i), fmt.Appendf(nil, "kind: device\nname: cabinet-%d\nmodel: %s\nrevision: A%d\ninstalled: {%s: 4.0.1, main: 4.0.1}\n", i, m.model(i), 1+i%2, m.component(0)))
	}
}

// Whatever a kit is like, its answers are one screen each.
func TestAnyKitIsOneScreen(t *testing.T) {
	t.Parallel()
	r := rand.New(rand.NewPCG(21, 22))
	for _, m := range []made{{components: 1, members: 1, packages: 1}, {components: 2, members: 3, packages: 9}, {components: 5, members: 12, packages: 30}, {components: 8, members: 12, packages: 8}, {components: 3, members: 1, packages: 300}} {
		m.dir = t.TempDir()
		m.write(t, r)
		last := fmt.Sprintf("packages/line-%s.zip", m.release(m.packages-1))
		for _, args := range [][]string{
			{"match", "-device", "d", last}, {"match", "-device", "d", "packages/line-4.0.0.zip"}, {"match", "-device", "d", "packages"}, {"match", "-device", "many", last},
			{"survey", last}, {"path", "-device", "d", "-to", "latest"}, {"path", "-device", "d", "-to", m.release(m.packages - 1)}, {"stage", "-device", "d", "-to", "latest", "-into", "staged"},
			{"stage", "-device", "many", "-to", "latest", "-into", "other"}, {"confirm", "-device", "d", "-after", "devices/d.yaml"},
			{"compare", "packages/line-4.0.0.zip", last}, {"unpack", "-into", "out", last},
		} {
			call := program.Call(t, m.dir, args...)
			if call.Status == 4 || call.Status == 2 {
				assert.NotEmpty(t, call.Errout, args)
				continue
			}
			isOneScreen(t, call, 40, args...)
		}
	}
}

// A package says the same whether it is packed or not.
func TestPackedOrNot(t *testing.T) {
	t.Parallel()
	kit := program.WriteKit(t)
	for _, name := range []string{"qm-tram-8.4.2.zip", "qm-core-6.4.1.zip", "vg20-5.1.0.zip", "vr510-recovery-3.4.0.zip"} {
		dir := filepath.Join(kit, "unpacked", strings.TrimSuffix(name, ".zip"))
		for file, data := range program.Unzip(t, kit, name) {
			program.Write(t, dir, file, data)
		}
		listed := func(of string) (out []string) {
			for _, it := range program.Document(t, program.Call(t, kit, "survey", "-json", of))["items"].([]any) {
				it := it.(map[string]any)
				_, path, inside := strings.Cut(it["path"].(string), "::")
				if inside {
					out = append(out, fmt.Sprint(path, " ", it["kind"], " ", it["digests"]))
				}
			}
			slices.Sort(out)
			return out
		}
		packed := listed(name)
		assert.NotEmpty(t, packed)
		assert.Equal(t, packed, listed(dir), name)
	}
}
