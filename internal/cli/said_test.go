package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"fitcheck/demo"
	"fitcheck/internal/pagetest"
)

// TestWhatIsSaid holds what the commands say of the demo kit against the pages in testdata/said, so that a change
// of what is said is seen, and read.
func TestWhatIsSaid(t *testing.T) {
	pages, err := filepath.Abs("testdata/said")
	require.NoError(t, err)
	kit := kitDir(t)
	t.Chdir(kit)
	said := map[string]*strings.Builder{}
	for _, args := range saidCommands(t) {
		page := said[args[0]]
		if page == nil {
			page = &strings.Builder{}
			said[args[0]] = page
		}
		status, out, errout := run(args...)
		fmt.Fprintf(page, "$ fitcheck %s\n%s%sexit %d\n\n", strings.Join(args, " "), steadily(out, kit), steadily(errout, kit), status)
	}
	for name, page := range said {
		pagetest.Hold(t, filepath.Join(pages, name+".txt"), page.String())
	}
}

// ownAddress is what a computer says of its own addresses, whichever those are.
var ownAddress = regexp.MustCompile(` \(it has [^)]*\)`)

func steadily(text, kit string) string {
	return ownAddress.ReplaceAllString(strings.ReplaceAll(text, kit, "KIT"), "")
}

// saidCommands are those whose words are held, in the order in which they are run: what one writes the next may read.
func saidCommands(t *testing.T) [][]string {
	var out [][]string
	add := func(args ...string) { out = append(out, args) }
	for _, c := range demo.Story() {
		if c.Beside != nil {
			continue
		}
		add(c.Args...)
		switch c.Args[0] {
		case "match":
			add(append([]string{"match", "-why", "-evidence"}, c.Args[1:]...)...)
			if slices.Contains([]string{"wrong hardware revision", "a FIT image with two configurations", "a virtual image for a physical gateway"}, c.Name) {
				add(append([]string{"match", "-json"}, c.Args[1:]...)...)
			}
		case "path", "runbook", "confirm", "recover":
			add(append([]string{c.Args[0], "-why"}, c.Args[1:]...)...)
			add(append([]string{c.Args[0], "-json"}, c.Args[1:]...)...)
		case "stage":
			again := slices.Clone(c.Args)
			again[slices.Index(again, "-into")+1] += "-again"
			add(append([]string{c.Args[0], "-json"}, again[1:]...)...)
		}
	}
	packages, err := filepath.Glob("packages/*")
	require.NoError(t, err)
	whole, err := os.ReadFile("packages/QM-8T-8.4.2.img")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile("cut.img", whole[:2000], 0o644))
	devices, err := filepath.Glob("devices/*.yaml")
	require.NoError(t, err)
	for _, p := range packages {
		p = filepath.ToSlash(p)
		if info, err := os.Stat(p); err != nil || info.IsDir() {
			continue
		}
		add("survey", "-all", p)
		add("survey", "-quick", p)
	}
	add("survey", "-contents", "packages/vp12-5.1.4.bin")
	add("survey", "-json", "packages/qm-tram-8.4.2.zip")
	add("survey", "-json", "packages/vr310-4.2.0.itb")
	for _, d := range devices {
		name := strings.TrimSuffix(filepath.Base(d), ".yaml")
		add("match", "-brief", "-each", "-device", name, "packages")
		add("path", "-device", name, "-to", "latest", "-all", "3")
		add("runbook", "-device", name, "-to", "latest")
	}
	for _, args := range [][]string{
		{"match", "-device", "cabinet-*", "-format", "csv", "packages"},
		{"match", "-device", "cabinet-*", "-format", "junit", "packages/qm-tram-8.4.2.zip", "packages/qm-tram-a-8.4.2.zip"},
		{"match", "-device", "cabinet-12", "-others", "-no-cache", "packages/qm-tram-a-8.4.2.zip"},
		{"path", "-device", "devices", "-to", "latest", "-format", "csv"},
		{"path", "-device", "depot-core", "-to", "6.4.1", "-prefer", "hops", "-on-hand"},
		{"device", "captures/cab12.txt"},
		{"device", "-json", "captures/cab15.txt", "captures/cab15-eeprom.txt"},
		{"device", "-why", "captures/cab15-eeprom.txt"},
		{"device", "captures/ops-gateways.json"},
		{"compare", "packages/qm-tram-8.4.1.zip", "packages/qm-tram-8.4.2.zip"},
		{"compare", "-json", "packages/qm-core-6.3.0.zip", "packages/qm-core-6.4.1.zip"},
		{"compare", "-device", "cabinet-07", "packages/qm-tram-8.4.2.zip"},
		{"unpack", "-into", "out", "-parts", "packages/qm-tram-8.4.2.zip"},
		{"unpack", "-into", "out-2", "packages/gift.zip"},
		{"unpack", "-into", "out-3", "-json", "packages/depot-2026-11.tar.gz"},
		{"header", "-json", "packages/vr310-4.2.0.itb"},
		{"header", "cut.img"},
		{"survey", "-json", "cut.img"},
		{"header", "-hex", "packages/vc40-loader-2.4.0.bin"},
		{"notes", "packages/qm-core-6.4.1.zip"},
		{"notes", "-json", "new-line/notes-12.4.txt"},
		{"rulebook", "check", "rulebooks"},
		{"rulebook", "check", "-json", "rulebooks/quillmere.yaml"},
		{"rulebook", "test", "rulebooks/quillmere.yaml"},
		{"rulebook", "try", "rulebooks/quillmere.yaml", "captures/cab07.txt"},
		{"rulebook", "try", "-json", "rulebooks/velloway.yaml", "captures/ops-gateways.json"},
		{"rulebook", "draft", "-notes", "new-line/notes-12.4.txt", "-capture", "new-line/quay-2.txt", "-table", "new-line/moves.csv", "new-line/skerrow-12.1-b611.zip", "new-line/skerrow-12.4-b731.zip"},
		{"rulebook", "draft", "-json", "new-line/skerrow-12.2-b640.zip", "new-line/skerrow-12.3-b702.zip"},
		{"rulebook", "import", "-into", "rulebooks/quillmere.yaml", "-out", "imported.yaml", "new-line/moves.csv"},
		{"confirm", "-device", "cabinet-07", "-after", "captures/cab07.txt", "-to", "8.4.2"},
		{"confirm", "-device", "cabinet-07", "-after", "captures/cab12.txt", "-to", "8.4.2", "-why"},
		{"confirm", "-device", "cabinet-07", "-after", "captures/cab07-after.txt", "-to", "8.4.2", "-step", "1"},
		{"recover", "-device", "platform-2"},
		{"recover", "-device", "platform-2", "-why", "packages/vr510-recovery-3.4.0.zip"},
		{"explain"},
		{"explain", "-json", "revision.excluded"},
		{"survey", "-deep", "packages/flash-07.bin"},
		{"survey", "-contents", "-all", "packages/flash-07.bin"},
		{"survey", "-json", "packages/flash-07.bin"},
		{"survey", "-digest", "sha256:0000000000000000000000000000000000000000000000000000000000000000", "packages/vp12-5.3.0.bin"},
		{"survey", "-max-items", "3", "packages/qm-tram-8.4.2.zip"},
		{"survey", "-max-depth", "1", "packages/qm-tram-8.4.2.zip"},
		{"survey", "packages/cut-short"}, {"survey", "packages/portal"}, {"survey", "new-line"}, {"survey", "packages/none.zip"},
		{"header", "packages/flash-07.bin"}, {"header", "packages/vp12-5.1.4.bin"}, {"header", "packages/qm-tram-8.4.2.zip"}, {"header", "-json", "packages/vr510-3.4.0.bin"},
		{"unpack", "-contents", "-into", "out-4", "packages/vp12-5.1.4.bin"},
		{"unpack", "-only", "**/*.img", "-into", "out-5", "packages/qm-tram-8.4.2.zip"},
		{"unpack", "-only", "**/*.none", "-into", "out-6", "packages/qm-tram-8.4.2.zip"},
		{"unpack", "-into", "out-5", "packages/qm-tram-8.4.1.zip"},
		{"notes", "-about", "loader", "packages/qm-core-6.4.1.zip"},
		{"notes", "-release", "6.4.1", "new-line/notes-12.4.txt"},
		{"compare", "-contents", "packages/vp12-5.1.4.bin", "packages/vp12-5.3.0.bin"},
		{"compare", "-all", "packages/qm-tram-8.4.2.zip", "packages/qm-tram-a-8.4.2.zip"},
		{"compare", "-device", "depot-core", "packages/qm-core-6.4.1.zip"},
		{"device", "-set", "name=cabinet-07", "-set", "model=QM-24T", "-out", "set.yaml", "captures/cab07.txt"},
		{"device", "-out", "set.yaml", "captures/cab12.txt"},
		{"device", "-replace", "-why", "-out", "set.yaml", "captures/cab12.txt"},
		{"device", "-into", "gateways", "captures/ops-gateways.json"},
		{"device", "packages/qm-tram-8.4.2.zip"},
		{"match", "-trust-names", "-device", "platform-2", "packages/vr510-3.4.0.bin"},
		{"match", "-quick", "-device", "cabinet-07", "packages/qm-tram-8.4.2.zip"},
		{"match", "-json", "-device", "depot-core", "packages/qm-core-6.4.1.zip"},
		{"match", "-why", "-device", "ops-gateways", "packages/vg20-5.1.0.zip"},
		{"match", "-evidence", "-device", "tunnel-3", "packages/vr310-4.2.0.itb"},
		{"match", "-digest", "sha256:0000000000000000000000000000000000000000000000000000000000000000", "-device", "sign-2", "packages/vp12-5.3.0.bin"},
		{"match", "-device", "set.yaml", "packages/qm-tram-8.4.2.zip"},
		{"match", "-device", "nobody", "packages/qm-tram-8.4.2.zip"},
		{"match", "packages/qm-tram-8.4.2.zip"},
		{"path", "-device", "platform-9", "-to", "23.4.2", "-family", "lantern", "-why"},
		{"path", "-device", "platform-9", "-to", "23.4.2", "-family", "lantern", "-avoid", "23.4.0"},
		{"path", "-device", "depot-core", "-to", "6.4.1", "-avoid", "6.3.0", "-why"},
		{"path", "-device", "depot-core", "-to", "5.0", "-json"},
		{"path", "-device", "sign-2", "-to", "5.1.4", "-prefer", "outage", "-why"},
		{"path", "-device", "cabinet-07", "-to", "channel:current"},
		{"path", "-device", "cabinet-07", "-to", "certified:none"},
		{"stage", "-device", "depot-core", "-to", "6.4.1", "-into", "staged-core", "-why"},
		{"stage", "-device", "depot-core", "-to", "6.4.1", "-into", "staged-core"},
		{"stage", "-device", "cabinet-07", "-into", "staged-core", "packages/qm-tram-8.4.2.zip"},
		{"stage", "-device", "cabinet-12", "-into", "staged-12", "packages/qm-tram-8.4.2.zip"},
		{"runbook", "-device", "depot-core", "-to", "6.4.1", "-window", "22:00-04:00", "-not-during", "02:00-03:00 nightly backup", "-server", "192.0.2.1"},
		{"runbook", "-device", "cabinet-*", "-to", "8.4.2", "-window", "22:00-23:00", "-parallel", "2"},
		{"runbook", "-device", "depot-core", "-to", "6.4.1", "-staged", "staged-core", "-why"},
		{"confirm", "-device", "depot-core", "-after", "captures/cab07-after.txt", "-to", "6.4.1", "-why"},
		{"confirm", "-device", "cabinet-07", "-before", "captures/cab07.txt", "-after", "captures/cab07-after.txt", "-to", "8.4.2", "-format", "csv"},
		{"confirm", "-device", "cabinet-07", "-after", "captures/cab07-after.txt", "-to", "8.4.2", "-step", "9", "-json"},
		{"confirm", "-device", "cabinet-07", "-after", "captures/cab07.txt", "-to", "8.4.2", "-step", "99"},
		{"recover", "-device", "cabinet-07", "packages/qm-tram-8.4.2.zip"},
		{"recover", "-device", "platform-2", "packages/vr510-3.4.0.bin"},
		{"match", "-example", "-device", "cabinet-07", "packages/qm-tram-8.4.2.zip"},
		{"match", "-example", "-device", "cabinet-12", "packages/qm-tram-8.4.2.zip"},
		{"match", "-example", "-device", "depot-core", "packages/qm-core-6.4.1.zip"},
		{"match", "-example", "-device", "platform-2", "packages/vr510-3.4.0.bin"},
		{"rulebook", "test", "rulebooks"},
		{"rulebook", "test", "-json", "rulebooks"},
		{"rulebook", "test", "-all", "rulebooks/quillmere.yaml"},
		{"rulebook", "try", "rulebooks/quillmere.yaml", "packages/qm-tram-8.4.2.zip"},
		{"rulebook", "try", "rulebooks/velloway.yaml", "packages/vr310-4.2.0.itb", "captures/cab07.txt"},
		{"rulebook", "draft", "-merge", "rulebooks/quillmere.yaml", "packages/qm-tram-8.4.1.zip"},
		{"rulebook", "import", "captures/cab07.txt"},
		{"rulebook", "check", "devices", "layouts"},
		{"rulebook", "check", "captures/cab07.txt"},
		{"explain", "identity.described_otherwise"}, {"explain", "family.from_other"}, {"explain", "intact"}, {"explain", "nothing.known"},
		{"completion", "bash"}, {"completion", "tcsh"}, {"help", "match"}, {"nothing"},
	} {
		add(args...)
	}
	return out
}
