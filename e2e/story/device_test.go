package story

import (
	"encoding/xml"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/e2e/program"
)

// The device files of the kit are what their captures make, and a second run
// changes nothing.
func TestDeviceFilesComeFromCaptures(t *testing.T) {
	t.Parallel()
	dir := program.WriteKit(t)
	for n, capture := range map[string]string{"cabinet-07": "captures/cab07.txt", "cabinet-12": "captures/cab12.txt"} {
		r := program.Call(t, dir, "device", "-out", "devices/"+n+".yaml", capture)
		assert.Equal(t, 0, r.Status, r.Errout)
		assert.Contains(t, r.Out, "says this already")
		r = program.Call(t, dir, "device", capture)
		want, err := os.ReadFile(filepath.Join(dir, "devices", n+".yaml"))
		require.NoError(t, err)
		assert.Equal(t, string(want), r.Out, "without -out the file itself is printed")
		assert.Empty(t, r.Errout)
	}
}

func TestDeviceFromStartToVerdict(t *testing.T) {
	t.Parallel()
	dir := program.WriteKit(t)
	// What sources contradict each other on is not written, until a person settles it.
	args := []string{"device", "-out", "devices/cabinet-15.yaml", "captures/cab15.txt", "captures/cab15-eeprom.txt"}
	r := program.Call(t, dir, args...)
	assert.Equal(t, 3, r.Status)
	assert.Contains(t, r.Out, "revision: captures/cab15.txt:5 says A2; captures/cab15-eeprom.txt:2 says B1")
	assert.NoFileExists(t, filepath.Join(dir, "devices/cabinet-15.yaml"))
	r = program.Call(t, dir, append(args, "-set", "revision=B1", "-set", "serial=0529-101")...)
	assert.Equal(t, 0, r.Status, r.Errout)
	m := program.Call(t, dir, "match", "-device", "cabinet-15", "packages/qm-tram-a-8.4.2.zip", "-others=false")
	assert.Equal(t, 1, m.Status)
	assert.Contains(t, m.Out, "B1 (command line -set revision=B1 by way of devices/cabinet-15.yaml:4)")
	// An update changes what is told and keeps the rest.
	require.NoError(t, os.WriteFile(filepath.Join(dir, "new.txt"), []byte("cabinet-15> show system\nTramline OS 8.3.1\nRunning : 8.3.1\n"), 0o644))
	r = program.Call(t, dir, "device", "-out", "devices/cabinet-15.yaml", "new.txt")
	assert.Equal(t, 4, r.Status)
	assert.Contains(t, r.Errout, "installed.main: 8.2.1 becomes 8.3.1 (new.txt:3)")
	r = program.Call(t, dir, "device", "-replace", "-out", "devices/cabinet-15.yaml", "new.txt")
	assert.Equal(t, 0, r.Status, r.Errout)
	text, err := os.ReadFile(filepath.Join(dir, "devices/cabinet-15.yaml"))
	require.NoError(t, err)
	assert.Contains(t, string(text), "installed: {boot: 3.1.4, main: 8.3.1, poe: \"2.1\"}")
	assert.Contains(t, string(text), "revision: B1")

	// Guesses never count as known.
	require.NoError(t, os.WriteFile(filepath.Join(dir, "strange.txt"), []byte("Model: QM-8T\nHardware revision: A2\nVersion: 8.2.1\n"), 0o644))
	r = program.Call(t, dir, "device", "-out", "devices/strange.yaml", "strange.txt")
	assert.Equal(t, 3, r.Status)
	m = program.Call(t, dir, "match", "-device", "strange", "packages/qm-tram-8.4.2.zip", "-json")
	assert.Equal(t, 3, m.Status, m.Out)

	for _, c := range []struct {
		args   []string
		status int
		want   string
	}{
		{[]string{"device"}, 2, "takes what was read off the device"},
		{[]string{"device", "gone.txt"}, 4, "gone.txt: there is no such file"},
		{[]string{"device", "-set", "modle=x"}, 2, `"modle" is not a key`},
		{[]string{"device", "packages/vr310-4.2.0.itb"}, 4, "device tree"},
		{[]string{"device", "packages/gift.zip"}, 4, "neither text nor"},
		{[]string{"device", "packages"}, 4, "holds no device tree"},
	} {
		r := program.Call(t, dir, c.args...)
		assert.Equal(t, c.status, r.Status, "%v %s", c.args, r.Errout)
		assert.Contains(t, r.Errout, c.want)
	}
}

func TestMatchManyAtOnce(t *testing.T) {
	t.Parallel()
	dir := program.WriteKit(t)
	doc := program.Document(t, program.Call(t, dir, "match", "-device", "devices", "packages", "-json"))
	best := map[string]string{}
	for _, m := range doc["results"].([]any) {
		v := m.(map[string]any)
		if name := v["device"].(string); best[name] == "" {
			best[name] = v["verdict"].(string) + " " + v["package"].(string)
		}
		if v["verdict"] == "fits" && v["device"] != "radio-controller" {
			assert.NotContains(t, v["package"], "vc40", "%s", v["device"])
		}
	}
	assert.Equal(t, "fits qm-tram-8.4.2.zip", best["cabinet-07"])
	assert.Equal(t, "fits qm-tram-8.4.2.zip", best["cabinet-12"])
	assert.Equal(t, "fits vg20-5.1.0.zip", best["ops-gateways"])
	assert.Equal(t, "fits vc40-loader-2.4.1.bin + vc40-system-2.4.1.bin", best["radio-controller"])
	assert.Equal(t, "fits", doc["verdict"])

	r := program.Call(t, dir, "match", "-why", "-device", "cabinet-07", "-device", "cabinet-12", "packages/qm-tram-a-8.4.2.zip")
	assert.Equal(t, 1, r.Status, "the worst device decides")
	assert.Contains(t, r.Out, "2 devices: 1 fit, 1 do not")
	assert.Contains(t, r.Out, "qm-tram-8.4.2.zip of the kit (packages/qm-tram-8.4.2.zip) fits cabinet-12: take that one")

	r = program.Call(t, dir, "match", "-device", "cabinet-12", "packages/qm-tram-a-8.4.2.zip", "-format", "junit")
	assert.Equal(t, 1, r.Status)
	var suites struct {
		Failures int `xml:"failures,attr"`
	}
	require.NoError(t, xml.Unmarshal([]byte(r.Out), &suites))
	assert.Positive(t, suites.Failures)

	r = program.Call(t, dir, "match", "-device", "cabinet-12", "packages/qm-tram-a-8.4.2.zip", "-evidence")
	for _, want := range []string{"> ", "captures/cab12.txt:5", "Board rev   : B1", "main  qm8t-a.img  8.4.2  revs=A1,A2", "27 05 19 56", "^^"} {
		assert.Contains(t, r.Out, want)
	}
}

func TestReports(t *testing.T) {
	t.Parallel()
	dir := program.WriteKit(t)
	for _, name := range []string{"out/report.html", "out/report.md"} {
		r := program.Call(t, dir, "match", "-device", "ops-gateways", "packages/vg20-5.1.0-virtual.zip", "-report", name)
		assert.Equal(t, 1, r.Status, r.Errout)
		text, err := os.ReadFile(filepath.Join(dir, name))
		require.NoError(t, err)
		for _, want := range []string{"does NOT fit ops-gateways", "gw-1", "gw-2", "platform", "the image is for virtual (manifest)", "vg20-virtual.img", "What to do next"} {
			assert.Contains(t, string(text), want, name)
		}
		r = program.Call(t, dir, "match", "-device", "ops-gateways", "packages/vg20-5.1.0.zip", "-report", name)
		assert.Equal(t, 4, r.Status, "a report that is there is kept")
		again, err := os.ReadFile(filepath.Join(dir, name))
		require.NoError(t, err)
		assert.Equal(t, string(text), string(again))
		assert.Equal(t, 0, program.Call(t, dir, "match", "-device", "ops-gateways", "packages/vg20-5.1.0.zip", "-report", name, "-replace").Status)
	}
	assert.Equal(t, 2, program.Call(t, dir, "match", "-device", "cabinet-07", "x.zip", "-report", "r.pdf").Status)
}

// A first rulebook is drafted, found sound, completed, and gives a verdict.
func TestDraftToVerdict(t *testing.T) {
	t.Parallel()
	dir := program.WriteKit(t)
	draft := program.Call(t, dir, "rulebook", "draft", "packages/qm-tram-8.4.2.zip")
	require.Equal(t, 0, draft.Status, draft.Errout)
	kit := t.TempDir()
	for _, d := range []string{"rulebooks", "layouts"} {
		require.NoError(t, os.MkdirAll(filepath.Join(kit, d), 0o755))
	}
	layout, err := os.ReadFile(filepath.Join(dir, "layouts/qmi.yaml"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(kit, "layouts/qmi.yaml"), layout, 0o644))
	rules := filepath.Join(kit, "rulebooks/first.yaml")
	require.NoError(t, os.WriteFile(rules, []byte(draft.Out), 0o644))
	check := program.Call(t, dir, "rulebook", "check", rules)
	assert.Equal(t, 0, check.Status, check.Out)
	match := func() program.Ran {
		return program.Call(t, dir, "match", "-kit", kit, "-device", filepath.Join(dir, "devices/cabinet-07.yaml"), "packages/qm-tram-8.4.2.zip")
	}
	assert.Equal(t, 3, match().Status, "a draft decides nothing")
	confirmed := regexp.MustCompile(`\s+# GUESS.*`).ReplaceAllString(draft.Out, "")
	require.NoError(t, os.WriteFile(rules, []byte(confirmed), 0o644))
	r := match()
	assert.Equal(t, 0, r.Status, r.Out)
	require.NoError(t, os.WriteFile(rules, []byte(strings.Replace(confirmed, "upward: open", "upward: listed", 1)), 0o644))
	assert.Equal(t, 1, match().Status, "only listed moves, and none is listed")

	assert.Contains(t, program.Call(t, dir, "rulebook", "schema", "device").Out, `"$schema": "https://json-schema.org/draft/2020-12/schema"`)
	assert.Equal(t, 2, program.Call(t, dir, "rulebook", "schema", "picture").Status)
	warned := filepath.Join(kit, "rulebooks/warned.yaml")
	require.NoError(t, os.WriteFile(warned, []byte("kind: rulebook\ntitle: x\nmodels: {QM-8T: {}}\nhops: {rules: [{models: [QM-8], allow: true}]}\n"), 0o644))
	check = program.Call(t, dir, "rulebook", "check", warned)
	assert.Equal(t, 0, check.Status, "warnings are no errors")
	assert.Contains(t, check.Out, "did you mean QM-8T?")
	require.NoError(t, os.WriteFile(warned, []byte("kind: rulebook\ntitle: x\nmodels: {QM-8T: {}}\nhops: {rules: [{models: [QM-8], allow: false}]}\n"), 0o644))
	assert.Equal(t, 1, program.Call(t, dir, "rulebook", "check", warned).Status, "a rule that forbids and can never apply is an error")
}
