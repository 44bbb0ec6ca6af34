package night

import (
	"bytes"
	"context"
	"crypto/md5"
	"crypto/sha256"
	"fmt"
	"io"
	"net"
	"os"
	"path"
	"path/filepath"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/tftp"
	"fitcheck/core/tftp/tftptest"
	"fitcheck/demo"
	"fitcheck/e2e/program"
)

// A line of products that is worked in its own way, from the capture to the confirmation.
type line struct {
	rules   string // beside what all of them share
	models  []string
	capture string // before
	edits   []string
	beside  map[string]string // further files of the kit
	dir     string
	images  map[string][]byte
}

const shared = `kind: rulebook
title: a line that is worked in its own way
models:
  %s
families:
  run: {components: {main: {title: system image%s}}, factory_reset: {starts: other-slot, address: 192.0.2.1, login: as on the label}}
versions:
  default: {pattern: '^(?P<a>\d+)\.(?P<b>\d+)$', order: [a, b]}
packages:
  - title: bundle
    file: '^run-(?P<version>[\d.]+)\.zip$'
    handling: unpacked
    manifest: {item: '**/files.txt', form: lines, record: '^(?P<component>\w+)\s+(?P<file>\S+)\s+(?P<version>\S+)\s+(?P<models>\S+)\s+(?P<revisions>\S+)\s+(?P<sha256>[0-9a-f]{64})$'}
releases:
  - {version: '7.2', families: [run], minutes: {install: 10-20, outage: 3-6}}
  - {version: '7.3', families: [run], minutes: {install: 10-20, outage: 3-6}}
hops: {upward: open, downward: open}
captures:
  - recognise: '^Marrow OS'
    member: '^== unit (\S+)'
    read: {name: '^Name: (\S+)', serial: '^Serial: (\S+)', model: '^Model: (\S+)', revision: '^Rev: (\S+)', installed.main: '^Runs: (\S+)', job.state: '^Job: (\w+)', job.percent: '^Job: \w+ (\d+)', job.reason: '^Job: failed, (.+)', start.saved: '^Choice saved: (\w+)', managed_by: '^Controller: (\S+)'}
    each: {slots: '^Bank (?P<name>\w) (?P<main>\S+)(?P<active> running)?(?P<next> next)?$', files: '^File (?P<file>\S+) (?P<size>\d+)'}
`

// kit lays the line out: its rulebook, a package of 7.3, and a device file read from the
// capture.
func (l *line) kit(t *testing.T, slotted bool) {
	t.Helper()
	l.dir = t.TempDir()
	var models []string
	for _, m := range l.models {
		models = append(models, m+": {families: [run], revisions: {A: {arch: arm, slot: 1MiB}}}")
	}
	slots := ""
	if slotted {
		slots = ", slotted: true"
	}
	program.Write(t, l.dir, "rulebooks/run.yaml", []byte(fmt.Sprintf(shared, strings.Join(models, "\n  "), slots)+l.rules))
	l.images = map[string][]byte{}
	files := map[string][]byte{}
	var list strings.Builder
	for _, m := range l.models {
		name := strings.ToLower(m) + ".img"
		img := demo.UImage(5, 2, 2, m+" 7.3", noise(m))
		l.images[name], files["run-7.3/"+name] = img, img
		fmt.Fprintf(&list, "main %s 7.3 %s A %x\n", name, m, sha256.Sum256(img))
	}
	files["run-7.3/files.txt"] = []byte(list.String())
	program.Write(t, l.dir, "packages/run-7.3.zip", program.ZipOf(t, files))
	program.Write(t, l.dir, "before.txt", []byte(l.capture))
	r := program.Call(t, l.dir, "device", "-out", "devices/d.yaml", "before.txt")
	require.Equal(t, 0, r.Status, r.Out+r.Errout)
	if len(l.edits) > 0 {
		file := filepath.Join(l.dir, "devices/d.yaml")
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(file, []byte(strings.NewReplacer(l.edits...).Replace(string(text))), 0o644))
	}
	for name, text := range l.beside {
		program.Write(t, l.dir, name, []byte(text))
	}
	r = program.Call(t, l.dir, "rulebook", "check", "rulebooks/run.yaml", "devices/d.yaml")
	require.Equal(t, 0, r.Status, r.Out)
	r = program.Call(t, l.dir, "match", "-device", "d", "run-7.3.zip")
	require.Equal(t, 0, r.Status, r.Out)
	r = program.Call(t, l.dir, "path", "-device", "d", "-to", "latest")
	require.Equal(t, 0, r.Status, r.Out)
	assert.Contains(t, r.Out, "10–20 min", "ranges of minutes stay ranges")
}

// noise makes bytes that look like a packed program.
func noise(of string) []byte {
	var out []byte
	for sum := sha256.Sum256([]byte(of)); len(out) < 4000; sum = sha256.Sum256(sum[:]) {
		out = append(out, sum[:]...)
	}
	return out
}

// steps are those of the runbook, as JSON has them.
func (l *line) steps(t *testing.T) []map[string]any {
	t.Helper()
	var out []map[string]any
	for _, s := range program.One(t, program.Call(t, l.dir, "runbook", "-json", "-device", "d", "run-7.3.zip"))["steps"].([]any) {
		out = append(out, s.(map[string]any))
	}
	return out
}

// number finds a step by its name, and, of several, by the device that it is taken on.
func (l *line) number(t *testing.T, name, on string) string {
	t.Helper()
	for _, s := range l.steps(t) {
		if s["step"] == name && (on == "" || s["device"] == on) {
			return fmt.Sprint(s["number"])
		}
	}
	t.Fatal("no step " + name)
	return ""
}

// after asks whether one may go on behind a step.
func (l *line) after(t *testing.T, step, on, outcome string, status int, lines ...string) map[string]any {
	t.Helper()
	program.Write(t, l.dir, "now.txt", []byte("Marrow OS\n"+strings.Join(lines, "\n")+"\n"))
	r := program.Call(t, l.dir, "confirm", "-json", "-device", "d", "-step", l.number(t, step, on), "-after", "now.txt", "run-7.3.zip")
	doc := program.One(t, r)
	assert.Equal(t, outcome, doc["outcome"], "%s, %v: %v", step, lines, doc)
	assert.Equal(t, status, r.Status, "%s, %v", step, lines)
	return doc
}

func (l *line) staged(t *testing.T) (names []string) {
	t.Helper()
	r := program.Call(t, l.dir, "stage", "-device", "d", "-into", "served", "run-7.3.zip", "-json")
	require.Equal(t, 0, r.Status, r.Out+r.Errout)
	for _, f := range program.Document(t, r)["files"].([]any) {
		name := f.(map[string]any)["path"].(string)
		names = append(names, name)
		assert.FileExists(t, filepath.Join(l.dir, "served", filepath.FromSlash(name)))
	}
	return names
}

// pull plays a device that is told where the manifest is: it fetches that by TFTP from what was
// staged, then what the manifest gives its model, by names that are relative to the manifest.
func (l *line) pull(t *testing.T, model, manifest string) (image []byte) {
	t.Helper()
	root, err := os.OpenRoot(filepath.Join(l.dir, "served"))
	require.NoError(t, err)
	defer root.Close()
	synctest.Test(t, func(t *testing.T) {
		n := tftptest.Network{}
		server := &tftp.Server{Conn: n.Listen(tftptest.Host(1), 69), Options: tftp.Options{Listen: n.Opener(tftptest.Host(1))},
			Send: func(_ *net.UDPAddr, name string) (io.ReadCloser, int64, error) {
				f, err := root.Open(strings.TrimPrefix(name, "/"))
				if err != nil {
					return nil, 0, &tftp.Error{Code: tftp.CodeNotFound}
				}
				return f, -1, nil
			}}
		ctx, stop := context.WithCancel(t.Context())
		served := make(chan error)
		go func() { served <- server.Serve(ctx) }()
		get := func(name string) []byte {
			var b bytes.Buffer
			_, err := tftp.Get(ctx, server.Conn.LocalAddr().(*net.UDPAddr), name, &b, tftp.Options{Listen: n.Opener(tftptest.Host(2))})
			require.NoError(t, err, name)
			return b.Bytes()
		}
		for _, record := range strings.Split(strings.TrimSpace(string(get(manifest))), "\n") {
			if f := strings.Fields(record); f[3] == model { // component, file, version, model …
				image = get(path.Join(path.Dir(manifest), f[1]))
			}
		}
		stop()
		require.NoError(t, <-served)
		time.Sleep(time.Hour) // by the bubble's clock: what lingers has ended by then
	})
	return image
}

const box = "Name: cab\nSerial: 77\nModel: MB-20\nRev: A\n"

// followsWritten holds steps against the runbook that was written: the number stands for the
// step that the engineer reads there, or nothing is said.
func (l *line) followsWritten(t *testing.T) {
	t.Helper()
	r := program.Call(t, l.dir, "runbook", "-json", "-device", "d", "-server", "192.0.2.9", "run-7.3.zip")
	program.Write(t, l.dir, "night.json", []byte(r.Out))
	program.Write(t, l.dir, "now.txt", []byte("Marrow OS\nSerial: 77\nBank A 7.2 running\nBank B 7.3 next\nChoice saved: yes\n"))
	ready := l.number(t, "ready", "")
	ask := func(number, file string) program.Ran {
		return program.Call(t, l.dir, "confirm", "-device", "d", "-step", number, "-runbook", file, "-after", "now.txt")
	}
	r = ask(ready, "night.json")
	assert.Equal(t, 0, r.Status, r.Out+r.Errout)
	program.Write(t, l.dir, "other.json", []byte(strings.ReplaceAll(readFile(t, l.dir, "night.json"), "next is B", "next is A")))
	for name, c := range map[string][3]string{
		"another step":  {ready, "other.json", "is not that of the plan as it is made now"},
		"no such step":  {"99", "night.json", "and no step 99"},
		"not a runbook": {ready, "now.txt", "it is no runbook in JSON"},
		"no file":       {ready, "none.json", "none.json"},
	} {
		r := ask(c[0], c[1])
		assert.Equal(t, 4, r.Status, name+r.Out)
		assert.Contains(t, r.Errout, c[2], name)
	}
	file := filepath.Join(l.dir, "devices/d.yaml")
	was := readFile(t, l.dir, "devices/d.yaml")
	require.NoError(t, os.WriteFile(file, []byte(strings.ReplaceAll(was, "name: cab", "name: cab-2")), 0o644))
	assert.Contains(t, ask(ready, "night.json").Errout, "it is the runbook of cab, not of cab-2")
	require.NoError(t, os.WriteFile(file, []byte(was), 0o644))
}

func readFile(t *testing.T, dir, name string) string {
	t.Helper()
	b, err := os.ReadFile(filepath.Join(dir, name))
	require.NoError(t, err)
	return string(b)
}

// Two banks: the image goes to the one that does not run, the choice of what starts next must
// be stored, and nobody restarts before that is seen.
func TestTwoBanks(t *testing.T) {
	t.Parallel()
	l := &line{models: []string{"MB-20"}, capture: "Marrow OS\n" + box + "Runs: 7.2\nBank A 7.2 running\nBank B 7.1\n", rules: `
sequence:
  - {step: transfer, do: 'fetch {{.Base}} from {{.Server}} to bank {{.Slot}}', wait: 2m-5m, tries: 3}
  - {step: verify, do: 'digest bank {{.Slot}}', see: '{{.MD5}}'}
  - {step: activate, do: 'start bank {{.Slot}} next', each: hop}
  - {step: ready, do: 'show banks', shows: {next: '{{.Slot}}', start.saved: 'true'}, each: member}
  - {step: restart, do: 'restart', wait: 3m-6m}
  - {step: check, do: 'show system'}
`}
	l.kit(t, true)
	assert.Equal(t, []string{"run-7.3/mb-20.img"}, l.staged(t))
	img := l.images["mb-20.img"]
	l.after(t, "transfer", "", "done", 0, "Serial: 77", fmt.Sprintf("File mb-20.img %d", len(img)))
	l.after(t, "verify", "", "done", 0, "Serial: 77", fmt.Sprintf("digest bank B: %x", md5.Sum(img)))
	l.after(t, "verify", "", "stop", 1, "Serial: 77", "digest of mb-20.img: "+strings.Repeat("0a", 16))
	l.after(t, "ready", "", "done", 0, "Serial: 77", "Bank A 7.2 running", "Bank B 7.3 next", "Choice saved: yes")
	l.after(t, "ready", "", "stop", 1, "Serial: 77", "Bank A 7.2 running next", "Bank B 7.3", "Choice saved: yes")
	l.after(t, "ready", "", "stop", 1, "Serial: 77", "Bank A 7.2 running", "Bank B 7.3 next", "Choice saved: no")
	l.after(t, "ready", "", "stop", 1, "Serial: 78", "Bank A 7.2 running", "Bank B 7.3 next", "Choice saved: yes")
	l.after(t, "restart", "", "failed", 1, "Serial: 77", "Runs: 7.2", "Bank A 7.2 running", "Bank B 7.3")
	l.followsWritten(t)
	l.after(t, "check", "", "done", 0, "Serial: 77", "Runs: 7.3", "Bank A 7.2", "Bank B 7.3 running")
	r := program.Call(t, l.dir, "path", "-device", "d", "-to", "7.3")
	assert.Contains(t, r.Out, "slot A still holds 7.2")
}

// A stack that asks for the manifest first, picks its own images, and restarts together.
func TestStackByManifest(t *testing.T) {
	t.Parallel()
	l := &line{models: []string{"MB-20", "MB-40"}, capture: "Marrow OS\n== unit one\nSerial: 1\nModel: MB-20\nRev: A\nRuns: 7.2\n== unit two\nSerial: 2\nModel: MB-40\nRev: A\nRuns: 7.2\n",
		edits: []string{"group: stack\n", "group: stack\nuniform: true\nstorage_free: 8MiB\n"}, rules: `
install: {fetches: manifest, root: /boot, strip: 1, members: together, written_to: storage}
sequence:
  - {step: pull, do: 'upgrade by {{.Server}}/{{.Root}}/files.txt', wait: 5m-10m, see: 'all units hold 7.3'}
  - {step: restart, do: 'restart all'}
  - {step: check, do: 'show units'}
`}
	l.kit(t, false)
	assert.ElementsMatch(t, []string{"boot/files.txt", "boot/mb-20.img", "boot/mb-40.img"}, l.staged(t))
	for _, model := range l.models {
		assert.Equal(t, l.images[strings.ToLower(model)+".img"], l.pull(t, model, "/boot/files.txt"), model)
	}
	restarts := 0
	for _, s := range l.steps(t) {
		if s["step"] == "restart" {
			restarts++
		}
	}
	assert.Equal(t, 1, restarts, "one command for the whole stack")
	l.after(t, "pull", "", "unknown", 3, "== unit one", "Serial: 1")
	l.after(t, "pull", "", "running", 3, "Serial: 1", "Job: running 40")
	l.after(t, "check", "", "done", 0, "== unit one", "Serial: 1", "Runs: 7.3", "== unit two", "Serial: 2", "Runs: 7.3")
	l.after(t, "check", "", "failed", 1, "== unit one", "Serial: 1", "Runs: 7.3", "== unit two", "Serial: 2", "Runs: 7.2")
	l.after(t, "check", "", "unknown", 3, "== unit one", "Serial: 1", "Runs: 7.3")
	// What is not of this stack proves nothing, told unit by unit or not.
	l.after(t, "check", "", "stop", 1, "Serial: 9", "Runs: 7.3")
	l.after(t, "check", "", "unknown", 3, "== unit three", "Serial: 8", "Runs: 7.3", "== unit four", "Serial: 9", "Runs: 7.3")
	l.after(t, "check", "", "stop", 1, "== unit one", "Serial: 1", "Runs: 7.3", "== unit two", "Serial: 9", "Runs: 7.3")
	l.after(t, "pull", "", "unknown", 3, "== unit three", "Serial: 8", "all units hold 7.3")
	l.after(t, "pull", "", "stop", 1, "Serial: 9", "all units hold 7.3")
	l.after(t, "check", "", "unknown", 3, "Serial: 1", "Runs: 7.3")
}

// An access point under a controller, which fetches and keeps the image and has it restart by
// itself.
func TestUnderAController(t *testing.T) {
	t.Parallel()
	l := &line{models: []string{"MA-3"}, capture: "Marrow OS\nName: mast-3\nSerial: 88\nModel: MA-3\nRev: A\nRuns: 7.2\nController: hut-1\n", rules: `
install: {fetched_by: manager, restart: automatic, written_to: storage}
sequence:
  - {step: transfer, do: 'store {{.Base}}'}
  - {step: install, do: 'push to {{.Device}}', wait: 10m-20m, see: 'joined'}
  - {step: check, do: 'show masts'}
remedies:
  - {shows: 'no room', do: free some storage on the controller}
`}
	l.beside = map[string]string{"devices/hut.yaml": "kind: device\nname: hut-1\nstorage_free: 8MiB\n"}
	l.kit(t, false)
	for _, c := range []struct {
		controller, room string
		status           int
	}{
		{"name: hut-1\nstorage_free: 2KiB", "2 KiB is free", 1},
		{"name: hut-1", "how much hut-1 has, which stores it, is not known", 3},
		{"name: hut-2\nstorage_free: 8MiB", "hut-1, which stores it, has no device file here", 3},
		{"name: hut-1\nstorage_free: 8MiB\nread_from: {storage_free: a note (guess)}", "how much hut-1 has, which stores it, is not known", 3},
		{"name: hut-1\nstorage_free: 8KiB", "", 0},
	} {
		program.Write(t, l.dir, "devices/hut.yaml", []byte("kind: device\n"+c.controller+"\n"))
		r := program.Call(t, l.dir, "match", "-device", "d", "run-7.3.zip")
		assert.Equal(t, c.status, r.Status, r.Out)
		assert.Contains(t, r.Text(), c.room)
		if c.status == 1 {
			assert.Contains(t, r.Text(), "free some space on hut-1, which stores it")
		}
	}
	rules := readFile(t, l.dir, "rulebooks/run.yaml")
	program.Write(t, l.dir, "rulebooks/run.yaml", []byte(strings.Replace(rules, "{version: '7.3', families: [run],", "{version: '7.3', families: [run], needs: [{storage_free: 9MiB}],", 1)))
	r := program.Call(t, l.dir, "match", "-device", "d", "run-7.3.zip")
	assert.Equal(t, 1, r.Status, r.Out)
	assert.Contains(t, r.Text(), "free some space on hut-1, which stores it")
	program.Write(t, l.dir, "rulebooks/run.yaml", []byte(rules))
	r = program.Call(t, l.dir, "runbook", "-device", "d", "run-7.3.zip")
	for _, want := range []string{"have hut-1 fetch", "it restarts by itself", "it takes 10–20 min"} {
		assert.Contains(t, strings.ToLower(strings.Join(strings.Fields(r.Out), " ")), want)
	}
	doc := l.after(t, "install", "", "running", 3, "Serial: 88", "Job: running 22")
	assert.EqualValues(t, 22, doc["percent"])
	assert.EqualValues(t, 600, doc["wait_seconds"].(map[string]any)["from"])
	doc = l.after(t, "install", "", "failed", 1, "Serial: 88", "Job: failed, no room on the controller")
	assert.Equal(t, "free some storage on the controller", doc["remedy"])
	l.after(t, "install", "", "done", 0, "Serial: 88", "mast-3 joined", "Runs: 7.3", "Job: done")
	l.after(t, "check", "", "failed", 1, "Serial: 88", "Runs: 7.2")
}

// An appliance that is quieted before it is touched, tries the install dry, and restarts by
// itself.
func TestQuietedAppliance(t *testing.T) {
	t.Parallel()
	l := &line{models: []string{"MX-1"}, capture: "Marrow OS\nName: gate\nSerial: 5\nModel: MX-1\nRev: A\nRuns: 7.2\nFault old lamp\n", rules: `
checks_after:
  - the users can log in
  - {must_show: '^Sessions: [1-9]', say: sessions come back}
  - {must_not_show: '^Fault', new_only: true, say: no new faults}
sequence:
  - {step: announce}
  - {step: drain, do: 'hold services 60', see: 'no sessions', if_not: 'wait for the last of them'}
  - {step: transfer, do: 'fetch {{.Base}}', tries: 3}
  - {step: dry_run, do: 'check {{.Files}}', see: 'all images agree', if_not: 'do not go on'}
  - {step: drain}
  - {step: install, do: 'install {{.Base}}', restart: automatic, wait: 10m-20m}
  - {step: check, do: 'show all'}
`}
	l.kit(t, false)
	l.after(t, "drain", "", "done", 0, "Serial: 5", "no sessions")
	l.after(t, "drain", "", "unknown", 3, "Serial: 5", "Sessions: 4")
	l.after(t, "dry_run", "", "done", 0, "Serial: 5", "all images agree")
	l.after(t, "install", "", "done", 0, "Serial: 5", "Runs: 7.3")
	l.after(t, "check", "", "done", 0, "Serial: 5", "Runs: 7.3", "Sessions: 3")
	l.after(t, "check", "", "failed", 1, "Serial: 5", "Runs: 7.3", "Sessions: 0")
	confirm := func(status int, lines ...string) {
		t.Helper()
		program.Write(t, l.dir, "end.txt", []byte("Marrow OS\nName: gate\nSerial: 5\nModel: MX-1\nRev: A\nRuns: 7.3\n"+strings.Join(lines, "\n")+"\n"))
		r := program.Call(t, l.dir, "confirm", "-device", "d", "-to", "7.3", "-after", "end.txt", "-before", "before.txt")
		assert.Equal(t, status, r.Status, "%v: %s", lines, r.Out)
		assert.Contains(t, r.Out, "the users can log in", "which only a person sees")
	}
	confirm(0, "Sessions: 3", "Fault old lamp")
	confirm(1, "Sessions: 3", "Fault a new one")
	confirm(1, "Sessions: 0")
}

// Something that is upgraded by a program that is started once.
func TestStartedOnce(t *testing.T) {
	t.Parallel()
	l := &line{models: []string{"MB-20"}, capture: "Marrow OS\n" + box + "Runs: 7.2\n", rules: `
skip: []
sequence:
  - {step: transfer, do: 'fetch {{.Base}} to the stick', each: component}
  - {step: once, do: 'run {{.Base}} at the next start', see: 'starts once'}
  - {step: restart, act: 'switch it off, and on again', each: hop, wait: 4m}
  - {step: leave, act: 'take the stick out', when: last_hop, see: 'no stick'}
  - {step: check}
`}
	l.kit(t, false)
	var names []string
	for _, s := range l.steps(t) {
		if n, _ := s["step"].(string); n != "" {
			names = append(names, n)
		}
	}
	assert.Equal(t, []string{"transfer", "once", "restart", "leave", "check"}, names)
	l.after(t, "once", "", "done", 0, "Serial: 77", "mb-20.img starts once")
	l.after(t, "leave", "", "done", 0, "Serial: 77", "no stick")
	l.after(t, "check", "", "done", 0, "Serial: 77", "Runs: 7.3")
}

// A ladder of ways into the boot loader, the mildest first, the last with its risk.
func TestRecoveryLadder(t *testing.T) {
	t.Parallel()
	l := &line{models: []string{"MB-20"}, capture: "Marrow OS\n" + box + "Runs: 7.2\n", rules: `
recovery:
  - models: [MB-20]
    enter:
      - {do: press a key while it starts, tries: 3, signs: the prompt stands}
      - {do: hold the button beside the socket while it starts}
      - {do: bridge the two pins beside the flash, risk: the settings are lost}
    signs: {lamp: blinks amber}
    network: {device: 10.77.0.1, host: 10.77.0.2/24}
    transfer: {protocol: tftp, direction: push, within: 20s}
    accepts: {formats: [uimage], components: [main]}
    afterwards: {wait: 6m, signs: {lamp: is green}}
`}
	l.kit(t, false)
	file := filepath.Join(l.dir, "devices/d.yaml")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, append(text, []byte("state: silent\n")...), 0o644))
	r := program.Call(t, l.dir, "recover", "-device", "d", "run-7.3.zip")
	require.Equal(t, 0, r.Status, r.Out+r.Errout)
	out := strings.ToLower(strings.Join(strings.Fields(r.Out), " "))
	at := 0
	for _, want := range []string{"10.77.0.2/24", "press a key while it starts (up to 3 times)", "when it still does not wait: hold the button", "when it still does not wait: bridge the two pins", "risk: the settings are lost", "by tftp", "wait 6 min"} {
		i := strings.Index(out[at:], want)
		require.GreaterOrEqual(t, i, 0, "%q, in this order, in %s", want, out)
		at += i
	}
}
