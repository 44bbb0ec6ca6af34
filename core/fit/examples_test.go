package fit

import (
	"crypto/ed25519"
	"crypto/sha256"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/fit/check"
	"fitcheck/core/sign"
	"fitcheck/internal/pagetest"
)

const (
	page        = "../../docs/verdict.md"
	examplesTop = "<!-- examples: written by go test ./core/fit -run TestExamples -update -->"
	examplesEnd = "<!-- end of examples -->"
)

// example is what makes one check come out in its three ways; a scene with no
// name stands for an outcome that the check does not have.
type example struct {
	check                   string
	fits, misfit, unsettled scene
}

// further are examples that stand in the test file of their check.
var further []func(t *testing.T) example

func examples(t *testing.T) []example {
	out := builtinExamples(t)
	for _, one := range further {
		out = append(out, one(t))
	}
	return out
}

func builtinExamples(t *testing.T) []example {
	good := uimage(arm, kernel, "QM-8T 8.4.2", 900)
	digested := fmt.Sprintf("[QM-8T]\nmain a.img 8.4.2 revs=A1,A2 sha256=%x\n", sha256.Sum256(good))
	const listed = "[QM-8T]\nmain a.img 8.4.2 revs=A1,A2\n"
	maker := ed25519.NewKeyFromSeed([]byte(strings.Repeat("m", 32)))
	key := func(string) (*sign.Key, error) {
		der, err := x509.MarshalPKIXPublicKey(maker.Public())
		require.NoError(t, err)
		return sign.ReadKey("keys/maker.pem", pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: der}))
	}
	signed := []string{"    file: '^qm-", "    signature: {item: '**/m.sig', of: manifest, key: maker}\n    file: '^qm-"}
	takes := func(format string) []string {
		return []string{"slotted: true}", "slotted: true, formats: [" + format + "]}"}
	}
	device := func(pairs ...string) []string { return pairs }
	add := func(line string) []string { return []string{"revision: A2", "revision: A2\n" + line} }
	release := func(text string) []string {
		return []string{"{version: 8.4.2, date: 2026-09-30, families: [tram-l2]}", "{version: 8.4.2, date: 2026-09-30, families: [tram-l2], " + text + "}"}
	}
	record := func(rest string) string { return "[QM-8T]\nmain a.img 8.4.2 revs=A1,A2 " + rest + "\n" }
	pair := []string{"families:\n  tram-l2:\n", "families:\n  tram-l2:\n    paired: [[boot, main]]\n"}
	withBoot := func(version string) scene {
		return scene{rules: pair, manifest: listed + "boot l.boot " + version + " revs=A2\n", files: map[string]string{"l.boot": string(uimage(arm, firmware, "loader", 300))}}
	}
	named := func(name string, s scene) scene {
		s.name = name
		return s
	}
	stack := func(members string) []string {
		return []string{"revision: A2\ninstalled: {boot: 3.1.4, main: 8.2.1}", "group: stack\nuniform: true\nmembers:\n" + members + "installed: {boot: 3.1.4}"}
	}
	return []example{
		{"intact", scene{name: "checksums hold"}, scene{name: "one bit of the payload is flipped", files: map[string]string{"a.img": flip(good, 100)}},
			scene{name: "an unknown format, no published digest", files: map[string]string{"a.img": "\x01\x02\x03\x04"}}},
		{"digest", scene{name: "the list holds", files: map[string]string{"SUMS": sums("a.img", string(good))}}, scene{name: "the list gives another digest", files: map[string]string{"SUMS": sums("a.img", "other")}},
			scene{name: "a list is expected, and there is none", rules: []string{"  - title: single", "    checksums: '**/*.sha256'\n  - title: single"}}},
		{"kind", scene{name: "the rulebook lists its format", rules: takes("uimage/kernel")}, scene{name: "the rulebook lists others", rules: takes("trx")}, scene{name: "a RAM disk alone", files: map[string]string{"a.img": string(uimage(arm, 3, "QM-8T 8.4.2", 900))}}},
		{"signature", scene{name: "it verifies, and gives the image's digest", rules: signed, keys: key, manifest: digested, files: map[string]string{"m.sig": string(ed25519.Sign(maker, []byte(digested)))}},
			scene{name: "it is of something else", rules: signed, keys: key, files: map[string]string{"m.sig": string(ed25519.Sign(maker, []byte("x")))}}, scene{name: "it is expected, and there is none", rules: signed, keys: key}},
		{"complete", scene{name: "all that is listed is there"}, scene{name: "a listed file is missing", manifest: listed + "boot x.boot 3.2.0 revs=A2\n"}, scene{name: "a line cannot be read", manifest: listed + "??\n"}},
		{"agreement", scene{name: "manifest and header say the same"}, scene{}, scene{name: "manifest and header name two models", manifest: "[QM-24T]\nmain a.img 8.4.2 revs=A1,A2\n"}},
		{"model", scene{name: "manifest and header name it"}, scene{name: "both name another", manifest: "[QM-24T]\nmain a.img 8.4.2 revs=A1,A2\n", files: map[string]string{"a.img": string(uimage(arm, kernel, "QM-24T 8.4.2", 900))}},
			scene{name: "only the file name speaks of it", pkg: "QM8T_8.4.2.img", bare: uimage(arm, kernel, "system", 900)}},
		{"revision", scene{name: "the manifest names it"}, scene{name: "the manifest names others", device: device("revision: A2", "revision: B1")}, scene{name: "the device's is only guessed", device: add(`read_from: {revision: "cab.txt:4 (guess)"}`)}},
		{"arch", scene{name: "the header names it"}, scene{name: "the header names another", files: map[string]string{"a.img": string(uimage(arm64, kernel, "QM-8T 8.4.2", 900))}},
			scene{name: "the device's is not known", rules: []string{"A2: {arch: arm,  ", "A2: {"}}},
		{"board", scene{name: "the manifest names the device's", manifest: record("boards=quillmere,qm8t-a")}, scene{name: "the manifest names another", manifest: record("boards=quillmere,qm8t-x")},
			scene{name: "the device's is not known", manifest: "[QM-8T]\nmain a.img 8.4.2 revs=A1,A2 boards=quillmere,qm8t-a\n", rules: []string{`A2: {arch: arm,   boards: ["quillmere,qm8t-a"], `, "A2: {arch: arm, "}}},
		{"family", scene{name: "the release is of it"}, scene{name: "the manifest names another", manifest: record("fam=lantern")}, scene{name: "the device's is not known", rules: []string{"    families: [tram-l2]\n    revisions:\n      A1", "    families: [tram-l2, lantern]\n    revisions:\n      A1"}}},
		{"region", scene{name: "it is the device's", manifest: record("region=EU"), device: add("region: EU")}, scene{name: "it is another", manifest: record("region=US"), device: add("region: EU")}, scene{name: "the device's is not known", manifest: record("region=EU")}},
		{"hypervisor", scene{name: "it is the device's", manifest: record("hyp=xen"), device: add("hypervisor: xen")}, scene{name: "it is another", manifest: record("hyp=kvm"), device: add("hypervisor: xen")}, scene{name: "the device's is not known", manifest: record("hyp=xen")}},
		{"platform", scene{name: "it is the device's", manifest: record("plat=physical"), device: add("platform: physical")}, scene{name: "the virtual image", manifest: record("plat=virtual"), device: add("platform: physical")}, scene{name: "the device's is not known", manifest: record("plat=virtual")}},
		{"feature", scene{name: "the device has it", manifest: record("feat=vpn"), device: add("features: [vpn]")}, scene{name: "the device has others", manifest: record("feat=vpn"), device: add("features: [voice]")}, scene{name: "the device's are not known", manifest: record("feat=vpn")}},
		{"withdrawn", scene{name: "the release stands"}, scene{name: "it was withdrawn", rules: []string{"{version: 8.4.2,", "{version: 8.4.2, withdrawn: uplinks flap,"}}, scene{}},
		{"path", scene{name: "any newer release is allowed"}, scene{name: "a rule forbids the hop", device: device("main: 8.2.1", "main: 7.9.1")}, scene{name: "the installed version is not known", device: device("main: 8.2.1}", "poe: 1.0}", "main: 8.2.1, ", "")}},
		{"needs", scene{name: "the installed one is in the range", rules: release(`needs: [{component: boot, within: ">=3.1.0"}]`)}, scene{name: "it is too old, and nothing brings a newer one", rules: release(`needs: [{component: boot, within: ">=3.2.0"}]`)},
			scene{name: "the companion's version is not known", rules: release(`needs: [{companion: controller, within: ">=5.1"}]`)}},
		{"paired", named("both halves of one version", withBoot("8.4.2")), named("one half is old", withBoot("8.4.1")), scene{name: "the version of one is not known", rules: pair,
			manifest: "[QM-8T]\nmain a.img 8.4.2 revs=A1,A2\n", files: map[string]string{"l.boot": string(uimage(arm, firmware, "QM-8T loader", 300))}}},
		{"slot", scene{name: "it fits the free one"}, scene{name: "it is too big", files: map[string]string{"a.img": string(uimage(arm, kernel, "QM-8T 8.4.2", 5000))}}, scene{name: "the size of a slot is not known", rules: []string{", slot: 4KiB, memory: 256MiB", ""}}},
		{"room", scene{name: "there is enough", rules: release("needs: [{storage_free: 120MiB}]"), device: add("storage_free: 200MiB")}, scene{name: "there is too little", rules: release("needs: [{storage_free: 120MiB}]"), device: add("storage_free: 100MiB")},
			scene{name: "it is not known", rules: release("needs: [{storage_free: 120MiB}]")}},
		{"memory", scene{name: "there is enough", rules: release("needs: [{memory: 256MiB}]")}, scene{name: "there is too little", rules: release("needs: [{memory: 512MiB}]")}, scene{name: "it is not known", rules: append(release("needs: [{memory: 256MiB}]"), ", memory: 256MiB", "")}},
		{"uniform", scene{name: "all members end at one version", device: stack("  - {name: one, revision: A1, installed: {main: 8.2.1}}\n  - {name: two, revision: A2, installed: {main: 8.2.1}}\n")},
			scene{name: "one member has no image", device: append(stack("  - {name: one, revision: A1, installed: {main: 8.2.1}}\n  - {name: two, revision: B1, installed: {main: 8.2.1}}\n"), "slots: [{name: A, main: 8.2.1, active: true}, {name: B}]\n", ""), manifest: "[QM-8T]\nmain a.img 8.4.2 revs=A1\n"},
			scene{name: "where one ends is not known", device: stack("  - {name: one, revision: A1, installed: {main: 8.2.1}}\n  - {name: two, revision: A2, installed: {main: 8.2.1}}\n"), manifest: "-", pkg: "unknown.bin",
				bare: uimage(arm, kernel, "QM-8T", 900)}},
		{"version", scene{}, scene{name: "an older boot loader that cannot be left out", rules: []string{"boot: {title: boot loader, optional: true}", "boot: {title: boot loader}"}, manifest: listed + "boot l.boot 3.1.0 revs=A2\n", files: map[string]string{"l.boot": string(uimage(arm, firmware, "loader", 300))}},
			scene{name: "the installed boot loader is not known", device: device("boot: 3.1.4, ", ""), manifest: listed + "boot l.boot 3.1.0 revs=A2\n", files: map[string]string{"l.boot": string(uimage(arm, firmware, "loader", 300))}}},
		{"attached", scene{name: "nothing attached is dropped", rules: release("drops: [VR-210]"), device: add("attached: [VR-310]")}, scene{name: "something attached is dropped", rules: release("drops: [VR-210]"), device: add("attached: [VR-210]")}, scene{}},
		{"entitled", scene{name: "the release is older than the end", device: add("entitled_until: 2026-12-31")}, scene{name: "the release is newer", device: add("entitled_until: 2026-01-01")}, scene{name: "the release has no date", device: add("entitled_until: 2026-12-31"), rules: []string{", date: 2026-09-30", ""}}},
		{"transfer", scene{name: "names and sizes keep to it", rules: []string{"hops:\n", "transfer: {protocol: tftp, largest: 32MiB, longest_name: 63}\nhops:\n"}}, scene{name: "the image is too big for it", rules: []string{"hops:\n", "transfer: {largest: 512}\nhops:\n"}}, scene{}},
		{"rulebook", scene{}, scene{}, scene{name: "the rulebook still guesses", rules: []string{"hops:\n", "hops:  # GUESS: as it is usual\n"}}},
		{"handling", scene{name: "it stays whole", rules: []string{"    manifest:", "    handling: whole\n    manifest:"}}, scene{name: "it must stay whole, and is unpacked", rules: []string{"    manifest:", "    handling: whole\n    manifest:"}, unpacked: true}, scene{}},
	}
}

// Each check comes out in each of its ways, and the page on the verdict shows
// with which words.
func TestExamples(t *testing.T) {
	shown := map[string]bool{}
	for _, e := range examples(t) {
		shown[e.check] = true
	}
	for _, c := range check.All() {
		decides := slices.ContainsFunc(c.Codes, func(k *check.Code) bool { return k.Outcome == Misfit || k.Outcome == Unsettled })
		assert.True(t, shown[c.Name] || !decides, "docs/verdict.md shows no example of the check %s: add one to further in its test file", c.Name)
	}
	var b strings.Builder
	fmt.Fprintf(&b, "%s\n\n| check | outcome | when | what it says |\n|---|---|---|---|\n", examplesTop)
	for _, e := range examples(t) {
		for _, c := range []struct {
			want Outcome
			s    scene
		}{{Fits, e.fits}, {Misfit, e.misfit}, {Unsettled, e.unsettled}} {
			if c.s.name == "" {
				continue
			}
			t.Run(e.check+" "+string(c.want), func(t *testing.T) {
				v := c.s.run(t)
				said := ""
				for _, ch := range find(v, e.check) {
					if ch.Outcome == c.want && said == "" {
						said = ch.Because
					}
				}
				require.NotEmpty(t, said, "no %s check came out %s:\n%s", e.check, c.want, dump(v))
				if c.want != Fits {
					assert.NotEqual(t, Fits, v.Outcome, dump(v))
				}
				fmt.Fprintf(&b, "| %s | %s | %s | %s |\n", e.check, c.want, c.s.name, strings.ReplaceAll(said, "|", "\\|"))
			})
		}
	}
	text, err := os.ReadFile(page)
	require.NoError(t, err)
	before, rest, ok := strings.Cut(string(text), examplesTop)
	require.True(t, ok, "docs/verdict.md has a place for the examples")
	_, after, ok := strings.Cut(rest, examplesEnd)
	require.True(t, ok)
	want := before + b.String() + "\n" + examplesEnd + after
	if pagetest.Update() {
		require.NoError(t, os.WriteFile(page, []byte(want), 0o644))
		return
	}
	assert.Equal(t, want, string(text), "docs/verdict.md is out of date: go test ./core/fit -run TestExamples -update")
}
