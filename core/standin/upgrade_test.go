package standin

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/device"
	"fitcheck/core/image/format"
	"fitcheck/core/kit"
	"fitcheck/core/member"
	"fitcheck/core/rulebook"
	"fitcheck/demo"
)

// What a stand-in says is read back by the pattern that it was made from.
func TestSpeak(t *testing.T) {
	for _, c := range []struct {
		pattern, first string
		values         map[string]string
	}{
		{`^Model\s*:\s*(\S+)`, "QM-8T", nil}, {`(?i)running\s+version:? (\S+)`, "8.2.1", nil}, {`^\| serial \| (\S+) \|$`, "0417-221", nil}, {`^(\S+)> show`, "cab", nil},
		{`^Slot (?P<name>[AB])\s+(?P<main>\S+)(?P<active>\s+\*)?(?P<next>\s+next)?`, "", map[string]string{"name": "B", "main": "8.4.2", "active": mark, "next": mark}},
		{`^Slot (?P<name>[AB])\s+(?P<main>\S+)(?P<active>\s+\*)?(?P<next>\s+next)?`, "", map[string]string{"name": "A", "main": "8.4.2"}},
		{`^bank(?P<name>\d) (?:empty|(?P<main>\d+\.\d+)(?: \((?P<active>running|on)\))?)`, "", map[string]string{"name": "2", "main": "7.3", "active": mark}},
		{`\bfile=(?P<file>[\w.-]{1,64}),size=(?P<size>\d{1,12})`, "", map[string]string{"file": "a.img", "size": "712"}},
		{`^[A-Z]{3}\d+\s*=\s*(.+?)\s*$`, "two words", nil},
	} {
		re := regexp.MustCompile(c.pattern)
		line, ok := speak(re, c.values, c.first)
		require.True(t, ok, c.pattern)
		m := re.FindStringSubmatch(line)
		require.NotNil(t, m, line)
		for n, v := range c.values {
			got := m[re.SubexpIndex(n)]
			if v == mark {
				assert.NotEmpty(t, got, line)
			} else {
				assert.Equal(t, v, got, line)
			}
		}
		if c.first != "" {
			assert.Equal(t, c.first, m[1], line)
		}
		assert.NotContains(t, line, mark)
	}
	_, ok := speak(regexp.MustCompile(`^Model (\d+)$`), nil, "QM-8T")
	assert.False(t, ok, "a value that the pattern cannot read is not said")
}

// bench is cabinet-07 as it is played, and the files that it can fetch.
func bench(t *testing.T, name string) (*Upgrade, *kit.Kit, map[string][]byte) {
	dir := t.TempDir()
	for _, f := range demo.Kit() {
		at := filepath.Join(dir, filepath.FromSlash(f.Path))
		require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
		require.NoError(t, os.WriteFile(at, f.Data, 0o644))
	}
	k, err := kit.Open(dir)
	require.NoError(t, err)
	d, err := k.Device(name)
	require.NoError(t, err)
	rb, err := k.RulebookFor(d.Model.Text)
	require.NoError(t, err)
	files := map[string][]byte{}
	u := &Upgrade{Box: member.Resolve(d, rb), Formats: k.Formats}
	u.Fetch = func(_ context.Context, _, name string) ([]byte, error) {
		if b, ok := files[name]; ok {
			return b, nil
		}
		return nil, errors.New("not there")
	}
	require.NoError(t, u.Begin())
	return u, k, files
}

// shown reads what it shows as a capture, as the rulebook does.
func shown(t *testing.T, k *kit.Kit, lines []string) map[string]string {
	r, err := device.ReadSource("c.txt", []byte(strings.Join(lines, "\n")+"\n"), k.CaptureRules())
	require.NoError(t, err)
	out := map[string]string{}
	for _, v := range r.Values {
		out[v.Key] = v.Text
	}
	return out
}

func TestUpgradeOfACabinet(t *testing.T) {
	u, k, files := bench(t, "cabinet-07")
	var told []string
	u.Tell = func(text string) { told = append(told, text) }
	u.FailFirst = 1
	do := func(command string) map[string]string {
		says, restarts := u.Do(context.Background(), command)
		if restarts {
			u.Restart()
			says, _ = u.Do(context.Background(), "show system")
		}
		if v := strings.Join(says, "\n"); !strings.Contains(v, "Model") {
			more, _ := u.Do(context.Background(), "show system")
			says = append(says, more...)
		}
		return shown(t, k, says)
	}
	before := do("show system")
	for key, want := range map[string]string{"model": "QM-8T", "revision": "A2", "serial": "0417-221", "installed.main": "8.2.1", "installed.boot": "3.1.4", "slots.A.main": "8.2.1", "slots.A.active": "true", "slots.B.main": "7.9.1", "start.saved": "true", "job.state": "idle"} {
		assert.Equal(t, want, before[key], key)
	}
	for _, f := range demo.Kit() {
		if strings.HasSuffix(f.Path, "QM-8T-8.4.2.img") {
			files["x/qm8t-a.img"] = f.Data
		}
	}
	require.NotEmpty(t, files)
	const fetch = "fetch x/qm8t-a.img from 192.0.2.1 into slot B"
	assert.Equal(t, "failed", do(fetch)["job.state"], "the first attempt fails")
	assert.Equal(t, "7.9.1", do("show system")["slots.B.main"], "and writes nothing")
	got := do(fetch)
	assert.Equal(t, "done", got["job.state"])
	assert.Equal(t, "8.4.2", got["slots.B.main"])
	assert.Equal(t, "8.2.1", got["installed.main"], "what runs is not touched")
	got = do("start from slot B")
	assert.Equal(t, []string{"true", "false"}, []string{got["slots.B.next"], got["start.saved"]})
	got = do("restart now")
	assert.Equal(t, []string{"8.2.1", ""}, []string{got["installed.main"], got["slots.B.next"]}, "a choice that was not saved is forgotten")
	assert.Contains(t, strings.Join(told, "\n"), "was not saved, and is forgotten")
	do("start from slot B")
	assert.Equal(t, "true", do("save settings")["start.saved"])
	got = do("restart now")
	assert.Equal(t, []string{"8.4.2", "true", ""}, []string{got["installed.main"], got["slots.B.active"], got["slots.A.active"]})
	got = do("start from slot A, then restart now")
	assert.Equal(t, "true", got["slots.A.next"])
	says, _ := u.Do(context.Background(), "dance")
	assert.Contains(t, strings.Join(says, "\n"), "not understood")
	assert.Equal(t, "failed", do("fetch gone.img from 192.0.2.1")["job.state"])
}

// A line that asks the server for the manifest first: what it gives this model is fetched, and
// nothing else.
func TestUpgradePullsByManifest(t *testing.T) {
	rb, err := rulebook.Read("r.yaml", []byte(`kind: rulebook
title: t
models: {M1: {families: [f]}, M2: {families: [f]}}
families: {f: {components: {boot: {optional: true}, main: {}}}}
versions: {default: {pattern: '^(?P<a>\d+)\.(?P<b>\d+)$', order: [a, b]}}
packages:
  - title: p
    file: '^run-(?P<version>[\d.]+)\.zip$'
    manifest: {item: '**/run.lst', form: lines, record: '^(?P<component>\w+) (?P<file>\S+) (?P<models>\S+)$'}
    items: [{match: '**/*.img', component: main, title: '^M\d (?P<version>\S+)$'}]
install: {fetches: manifest, root: /os, restart: automatic}
sequence:
  - {step: transfer, do: 'upgrade from {{.Server}}', each: once}
  - {step: install, do: 'install now'}
  - {step: check, do: 'show all'}
captures:
  - recognise: '^Marrow OS'
    read: {model: '^Model (\S+)', installed.main: '^Runs (\S+)', job.state: '^Job (\w+)'}
`))
	require.NoError(t, err)
	d, err := device.Read("d.yaml", []byte("kind: device\nname: run\nmodel: M1\ninstalled: {main: '7.2'}\n"))
	require.NoError(t, err)
	var asked []string
	files := map[string][]byte{"os/run.lst": []byte("main m1.img M1\nmain m2.img M2\n"), "os/m1.img": demo.UImage(5, 2, 2, "M1 7.3", []byte("\x00a kernel"))}
	u := &Upgrade{Box: member.Resolve(d, rb), Formats: format.Builtin(), Fetch: func(_ context.Context, server, name string) ([]byte, error) {
		assert.Equal(t, "192.0.2.1", server)
		asked = append(asked, name)
		if b, ok := files[name]; ok {
			return b, nil
		}
		return nil, errors.New("not there")
	}}
	require.NoError(t, u.Begin())
	says, restarts := u.Do(context.Background(), "upgrade from 192.0.2.1")
	assert.Equal(t, []string{"os/run.lst", "os/m1.img"}, asked)
	assert.False(t, restarts)
	assert.Contains(t, strings.Join(says, "\n"), "m1.img")
	says, restarts = u.Do(context.Background(), "install now")
	assert.True(t, restarts, "it restarts by itself: %v", says)
	u.Restart()
	says, _ = u.Do(context.Background(), "show all")
	assert.Contains(t, strings.Join(says, "\n"), "Runs 7.3")
	delete(files, "os/run.lst")
	says, _ = u.Do(context.Background(), "upgrade from 192.0.2.1")
	assert.Contains(t, strings.Join(says, "\n"), "failed: ")
}

// What an image is for, and its version, the rulebook's items say before the words of its title do.
func TestKindOf(t *testing.T) {
	rb, err := rulebook.Read("r.yaml", []byte(`kind: rulebook
title: t
sources: {S: notes}
models: {M1: {families: [f]}}
families: {f: {components: {boot: {optional: true}, main: {}}}}
versions: {default: {pattern: '^(?P<a>\d+)\.(?P<b>\d+)$', order: [a, b]}}
packages:
  - title: p
    file: '^p-(?P<version>[\d.]+)\.zip$'
    items: [{match: '**/*.img', component: main, title: '^M\d (?P<version>\S+)'}, {match: '**/*.ldr', component: boot}]
`))
	require.NoError(t, err)
	d, err := device.Read("d.yaml", []byte("kind: device\nname: d\nmodel: M1\nfamily: f\ninstalled: {main: '7.2'}\n"))
	require.NoError(t, err)
	u := &Upgrade{Box: member.Resolve(d, rb), Formats: format.Builtin()}
	image := func(title string) []byte { return demo.UImage(5, 2, 2, title, []byte("\x00a kernel")) }
	for _, c := range []struct {
		name, slot         string
		data               []byte
		component, version string
	}{
		{"os/a.img", "", image("M1 7.3 9.9"), "main", "7.3"},  // as the pattern reads it, whatever word follows
		{"os/a.ldr", "", image("loader 1.4"), "boot", "1.4"},  // a word that reads as a version
		{"os/a.ldr", "B", image("loader 1.4"), "main", "1.4"}, // into a slot goes the main image alone
		{"os/a.bin", "", image("nothing at all"), "main", "unknown"},
		{"os/a.img", "", []byte("no image"), "main", "unknown"},
	} {
		component, version := u.kindOf(c.name, c.slot, c.data)
		assert.Equal(t, []string{c.component, c.version}, []string{component, version}, "%s %s", c.name, c.slot)
	}
}
