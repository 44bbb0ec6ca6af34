package plan

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/archive"
	"fitcheck/core/device"
	"fitcheck/core/digest"
	"fitcheck/core/fact"
	"fitcheck/core/fit"
	"fitcheck/core/kit"
	"fitcheck/core/path"
	"fitcheck/core/rulebook"
	"fitcheck/core/survey"
	"fitcheck/demo"
)

// bench is the demo kit in a folder, with its packages surveyed once.
type bench struct {
	dir   string
	k     *kit.Kit
	shelf *Shelf
}

func newBench(t *testing.T, packages ...string) *bench {
	b := &bench{dir: t.TempDir()}
	for _, f := range demo.Kit() {
		file := filepath.Join(b.dir, filepath.FromSlash(f.Path))
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(t, os.WriteFile(file, f.Data, 0o644))
	}
	var err error
	b.k, err = kit.Open(b.dir)
	require.NoError(t, err)
	b.shelf = &Shelf{Rules: b.rules}
	for _, p := range packages {
		b.shelf.Surveys = append(b.shelf.Surveys, b.survey(t, p))
	}
	return b
}

func (b *bench) rules(model string) *rulebook.Rulebook {
	rb, _ := b.k.RulebookFor(model)
	return rb
}

func (b *bench) survey(t *testing.T, name string) *survey.Survey {
	file := filepath.Join(b.dir, "packages", name)
	s, err := survey.Run(context.Background(), file, survey.Options{Limits: archive.DefaultLimits(), Rulebooks: b.k.Rulebooks, Formats: b.k.Formats, Keys: b.k.Key})
	require.NoError(t, err)
	return s
}

func (b *bench) device(t *testing.T, name string, edits ...string) *device.Device {
	file := filepath.Join(b.dir, "devices", name+".yaml")
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	text := string(data)
	for i := 0; i < len(edits); i += 2 {
		require.Contains(t, text, edits[i])
		text = strings.ReplaceAll(text, edits[i], edits[i+1])
	}
	d, err := device.Read("devices/"+name+".yaml", []byte(text))
	require.NoError(t, err)
	return d
}

// target plans as the commands do.
func (b *bench) target(t *testing.T, d *device.Device, goal path.Goal) *Target {
	res, err := path.Find(path.Request{Device: d, Rules: b.rules, Goal: goal})
	require.NoError(t, err)
	x := &Target{Name: d.File, Device: d, Rules: b.rules, Result: res, Keep: b.shelf.Keeps(d)}
	x.Steps = b.shelf.Steps(d, x.Hops())
	for i := range x.Steps {
		var v *fit.Verdict
		if len(x.Steps[i].Packages) > 0 {
			v = x.Steps[i].Judge(b.rules, fit.Options{})
		}
		x.Verdicts = append(x.Verdicts, v)
	}
	return x
}

// What a device is like afterwards is worked out on a copy: what it is like now stays as it was
// read, whether it is one box or several.
func TestAfterLeavesTheDeviceAsItIs(t *testing.T) {
	b := newBench(t, "qm-core-6.1.2.zip", "qm-core-6.3.0.zip", "qm-core-6.4.1.zip", "qm-tram-8.4.2.zip")
	for name, to := range map[string]string{"depot-core": "6.4.1", "cabinet-07": "8.4.2"} {
		d, was := b.device(t, name), b.device(t, name)
		x := b.target(t, d, path.Goal{Version: to})
		require.NotEmpty(t, x.Steps)
		after := After(d, b.rules, x.Hops())
		assert.Equal(t, was, d, name)
		assert.NotEqual(t, was.All(), after.All(), name)
	}
}

func TestAfterHops(t *testing.T) {
	b := newBench(t, "qm-core-6.1.2.zip", "qm-core-6.3.0.zip", "qm-core-6.4.1.zip")
	d := b.device(t, "depot-core")
	x := b.target(t, d, path.Goal{Version: "6.4.1"})
	require.Len(t, x.Steps, 4)
	var told []string
	for i := range x.Steps {
		after := After(d, b.rules, x.Hops()[:i+1])
		for _, m := range after.All() {
			main, _ := m.Version("main")
			boot, _ := m.Version("boot")
			active := ""
			for _, s := range m.Slots {
				if s.Active {
					active = s.Name.Text
				}
			}
			told = append(told, fmt.Sprintf("%d %s %s %s slot %s", i+1, m.Name.Text, main.Value, boot.Value, active))
		}
	}
	assert.Equal(t, []string{
		"1 core-1 6.1.2 1.9.3 slot 1", "1 core-2 6.1.2 1.9.3 slot 1", "1 core-3 6.1.2 1.9.3 slot 2",
		"2 core-1 6.1.2 2.0.0 slot 1", "2 core-2 6.1.2 2.0.0 slot 1", "2 core-3 6.1.2 2.0.0 slot 2",
		"3 core-1 6.3.0 2.0.0 slot 2", "3 core-2 6.3.0 2.0.0 slot 2", "3 core-3 6.3.0 2.0.0 slot 1",
		"4 core-1 6.4.1 2.0.0 slot 1", "4 core-2 6.4.1 2.0.0 slot 1", "4 core-3 6.4.1 2.0.0 slot 2"}, told)
	first, _ := d.All()[2].Version("main")
	assert.Equal(t, "6.0.4", first.Value, "the device itself stays as it is")
	for i, v := range x.Verdicts {
		require.NotNil(t, v, i)
		assert.Equal(t, fit.Fits, v.Outcome, "hop %d: %v", i+1, v.Deciding())
	}
	// The slot that is written to is never the one that runs.
	for i := range x.Steps {
		for _, f := range x.Steps[i].Files(i+1, "depot-core", x.Verdicts[i], b.rules) {
			for _, u := range f.For {
				for _, m := range x.Steps[i].Before.All() {
					for _, s := range m.Slots {
						assert.False(t, s.Active && m.Name.Text == u.Member && s.Name.Text == u.Slot, "hop %d writes to the running slot of %s", i+1, u.Member)
					}
				}
			}
		}
	}
}

func TestShelfGoesByWhatPackagesHold(t *testing.T) {
	b := newBench(t, "vc40-loader-2.4.0.bin", "vc40-loader-2.4.1.bin", "vc40-system-2.4.1.bin", "qm-tram-a-8.4.2.zip", "qm-tram-8.4.2.zip", "vg20-5.1.0-virtual.zip")
	for name, c := range map[string]struct {
		device, to string
		want       []string
	}{
		"both halves of a pair":       {"radio-controller", "2.4.1", []string{"vc40-loader-2.4.1.bin", "vc40-system-2.4.1.bin"}},
		"a half is missing":           {"radio-controller", "2.4.0", nil},
		"only the one for the board":  {"cabinet-12", "8.4.2", []string{"qm-tram-8.4.2.zip"}},
		"the virtual one is no image": {"ops-gateways", "5.1.0", nil},
	} {
		x := b.target(t, b.device(t, c.device), path.Goal{Version: c.to})
		require.Len(t, x.Steps, 1, name)
		var got []string
		for _, p := range x.Steps[0].Packages {
			got = append(got, p.Name)
		}
		assert.Equal(t, c.want, got, name)
	}
	has := b.shelf.Has(b.device(t, "radio-controller"))
	rb := b.rules("VC-40")
	assert.True(t, has(rb.FindRelease("2.4.1", "baton", "VC-40", "")))
	assert.False(t, has(rb.FindRelease("2.3.0", "baton", "VC-40", "")))
}

// Packages that do not hold what a hop needs fit nobody, whatever else of them is
// in order: least of all where only the boot loader is asked for.
func TestStepWithoutItsImages(t *testing.T) {
	b := newBench(t, "qm-core-6.1.2.zip", "qm-core-6.3.0.zip", "qm-core-6.4.1.zip")
	x := b.target(t, b.device(t, "depot-core"), path.Goal{Version: "6.4.1"})
	require.True(t, x.Steps[1].BootOnly)
	for hop, pkg := range map[int]string{1: "qm-core-6.3.0.zip", 2: "qm-core-6.4.1.zip", 3: "qm-core-6.3.0.zip"} {
		step := x.Steps[hop]
		step.Packages = []*survey.Survey{b.survey(t, pkg)}
		v := step.Judge(b.rules, fit.Options{})
		assert.Equal(t, fit.Misfit, v.Outcome, "hop %d with %s", hop+1, pkg)
		assert.Contains(t, v.Deciding(), "complete")
	}
}

func TestArrange(t *testing.T) {
	file := func(pkg, name, sum string) Serving {
		return Serving{Name: name, Address: pkg + "::" + name, Package: pkg, Digests: digest.Set{{Algorithm: digest.SHA256, Hex: sum}}, For: []Use{{Device: "d"}}}
	}
	none := func(string) *rulebook.Transfer { return nil }
	short := func(string) *rulebook.Transfer { return &rulebook.Transfer{LongestName: 12} }
	tiny := func(string) *rulebook.Transfer { return &rulebook.Transfer{LongestName: 6} }
	for name, c := range map[string]struct {
		files    []Serving
		transfer func(string) *rulebook.Transfer
		names    []string
		err      string
	}{
		"as they are":              {[]Serving{file("a", "a/x/1.img", "1"), file("b", "b/x/1.img", "2")}, none, []string{"a/x/1.img", "b/x/1.img"}, ""},
		"one file for two":         {[]Serving{file("a", "a/1.img", "1"), file("a", "a/1.img", "1")}, none, []string{"a/1.img"}, ""},
		"without the folder":       {[]Serving{file("a", "long-package/x/1.img", "1")}, short, []string{"x/1.img"}, ""},
		"only the bare name":       {[]Serving{file("a", "long-package/longer/1.img", "1")}, tiny, []string{"1.img"}, ""},
		"two of one bare name":     {[]Serving{file("a", "long-package/longer/1.img", "1"), file("b", "long-other/longer/1.img", "2")}, tiny, nil, "1.img would be the name of two different files"},
		"too long in any way":      {[]Serving{file("a", "a/a-very-long-name.img", "1")}, short, nil, "has 20 characters, and d takes at most 12"},
		"blanks":                   {[]Serving{file("a", "a/an image.img", "1")}, func(string) *rulebook.Transfer { return &rulebook.Transfer{} }, nil, "characters that cannot be transferred"},
		"blanks, and no rule":      {[]Serving{file("a", "a/an image.img", "1")}, none, []string{"a/an image.img"}, ""},
		"a name of the tool's own": {[]Serving{file("a", "SHA256SUMS", "1")}, none, nil, "is a name that stage uses itself"},
		"a name that leads astray": {[]Serving{file("a", "..", "1")}, none, nil, "no server can offer it"},
	} {
		got, err := Arrange(c.files, c.transfer)
		if c.err != "" {
			assert.ErrorContains(t, err, c.err, name)
			continue
		}
		require.NoError(t, err, name)
		var names []string
		for _, f := range got {
			names = append(names, f.Name)
		}
		assert.Equal(t, c.names, names, name)
	}
}

func TestStaging(t *testing.T) {
	b := newBench(t, "qm-tram-8.4.2.zip", "vr310-4.2.0.itb")
	x := b.target(t, b.device(t, "cabinet-07"), path.Goal{Version: "8.4.2"})
	files, err := Arrange(append(x.Files(), b.target(t, b.device(t, "tunnel-3"), path.Goal{Version: "4.2.0"}).Files()...), func(string) *rulebook.Transfer { return nil })
	require.NoError(t, err)
	var names []string
	for _, f := range files {
		names = append(names, f.Name)
	}
	require.Equal(t, []string{"qm-tram-8.4.2/boot/qm8t-boot-a.bin", "qm-tram-8.4.2/poe/qm-poe-a.qmi", "qm-tram-8.4.2/qm8t-a.img", "vr310-4.2.0.itb"}, names)
	record := func(files []Serving) []byte {
		var out []string
		for _, f := range files {
			out = append(out, fmt.Sprintf(`{"path":%q,"sha256":%q}`, f.Name, f.Digests.Of(digest.SHA256)))
		}
		return []byte(`{"fitcheck":{"document":"staged"},"files":[` + strings.Join(out, ",") + `]}`)
	}
	stage := func(dir string, files []Serving, replace bool) (*Staged, error) {
		s := &Staging{Dir: dir, Files: files, Record: record(files), Replace: replace, Limits: archive.DefaultLimits()}
		return s.Run(context.Background())
	}
	check := func(dir string, files []Serving, more int) {
		n := 0
		require.NoError(t, filepath.WalkDir(dir, func(p string, e os.DirEntry, err error) error {
			if !e.IsDir() {
				n++
			}
			return err
		}))
		assert.Equal(t, len(files)+2+more, n)
		for _, f := range files {
			got, err := digestOf(filepath.Join(dir, filepath.FromSlash(f.Name)))
			require.NoError(t, err)
			assert.Equal(t, f.Digests.Of(digest.SHA256), got)
		}
	}
	dir := filepath.Join(t.TempDir(), "deep", "served")
	done, err := stage(dir, files, false)
	require.NoError(t, err)
	assert.Len(t, done.Written, 6)
	check(dir, files, 0)

	again, err := stage(dir, files, false)
	require.NoError(t, err)
	assert.Empty(t, again.Written, "a second run changes nothing")
	assert.Equal(t, 6, again.There)

	// With another record of the same files, the record alone is written.
	other := &Staging{Dir: dir, Files: files, Record: append(record(files), '\n'), Limits: archive.DefaultLimits()}
	again, err = other.Run(context.Background())
	require.NoError(t, err)
	assert.Equal(t, []string{RecordName}, again.Written)
	_, err = stage(dir, files, false)
	require.NoError(t, err)

	// What is missing comes back; what others put there stays.
	require.NoError(t, os.Remove(filepath.Join(dir, "vr310-4.2.0.itb")))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "other.bin"), []byte("x"), 0o644))
	require.NoError(t, os.MkdirAll(filepath.Join(dir, tempPrefix+"999999999-x"), 0o755))
	done, err = stage(dir, files, false)
	require.NoError(t, err)
	assert.Equal(t, []string{"vr310-4.2.0.itb"}, done.Written)
	check(dir, files, 1)
	assert.NoDirExists(t, filepath.Join(dir, tempPrefix+"999999999-x"), "what a killed run left behind is gone")

	// Something else may only be staged with -replace; then what is no longer
	// wanted goes.
	_, err = stage(dir, files[:3], false)
	assert.ErrorContains(t, err, "holds what was staged for something else; give another folder, or -replace")
	done, err = stage(dir, files[:3], true)
	require.NoError(t, err)
	assert.Equal(t, []string{"vr310-4.2.0.itb"}, done.Removed)
	check(dir, files[:3], 1)

	// A file of somebody else's is never replaced.
	require.NoError(t, os.WriteFile(filepath.Join(dir, "vr310-4.2.0.itb"), []byte("mine"), 0o644))
	_, err = stage(dir, files, true)
	var foreign *ForeignError
	require.ErrorAs(t, err, &foreign)
	assert.Equal(t, []string{filepath.Join(dir, "vr310-4.2.0.itb")}, foreign.Paths)
	mine, _ := os.ReadFile(filepath.Join(dir, "vr310-4.2.0.itb"))
	assert.Equal(t, "mine", string(mine))
	check(dir, files[:3], 2)

	// A package that was changed since it was checked is noticed.
	pkg := filepath.Join(b.dir, "packages", "vr310-4.2.0.itb")
	data, err := os.ReadFile(pkg)
	require.NoError(t, err)
	data[len(data)-1] ^= 1
	require.NoError(t, os.WriteFile(pkg, data, 0o644))
	fresh := filepath.Join(t.TempDir(), "served")
	_, err = stage(fresh, files, false)
	assert.ErrorContains(t, err, "does not read back as it was written")
	assert.NoDirExists(t, fresh)
	left, err := os.ReadDir(filepath.Dir(fresh))
	require.NoError(t, err)
	assert.Empty(t, left)
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, err = (&Staging{Dir: fresh, Files: files, Record: record(files), Limits: archive.DefaultLimits()}).Run(ctx)
	assert.ErrorIs(t, err, context.Canceled)
	assert.NoDirExists(t, fresh)
}

// all is every text of a runbook.
func all(b *Runbook) string {
	var out []string
	for _, s := range b.Sections {
		out = append(out, "# "+s.Title)
		for _, i := range s.Steps {
			out = append(out, i.Text)
			for _, c := range i.Commands {
				out = append(out, "> "+c)
			}
			out = append(out, i.See...)
			out = append(out, "if not: "+i.Back)
		}
	}
	return strings.Join(out, "\n")
}

func TestRunbook(t *testing.T) {
	b := newBench(t, "qm-tram-8.4.2.zip", "qm-core-6.1.2.zip", "qm-core-6.3.0.zip", "qm-core-6.4.1.zip", "vp12-5.1.4.bin", "vp12-5.3.0.bin")
	write := func(d *device.Device, to string, o RunbookOptions) *Runbook {
		x := b.target(t, d, path.Goal{Version: to})
		files, err := Arrange(x.Files(), x.Transfer)
		require.NoError(t, err)
		o.Keep = x.Keep
		return Write(x, files, o)
	}
	one := write(b.device(t, "cabinet-07", "kind: device", "kind: device\nentitled_until: 2027-03-31\nattached: [VR-310]\nconfig: {saved: false, backed_up: 2026-11-20}"), "8.4.2", RunbookOptions{Server: "192.0.2.9", Window: 10})
	text := all(one)
	assert.NotContains(t, text, "in one network", "nothing is known of the device's network")
	far := all(write(b.device(t, "cabinet-07", "kind: device", "kind: device\naddress: 198.51.100.7/24"), "8.4.2", RunbookOptions{Server: "192.0.2.9"}))
	assert.Contains(t, far, "cabinet-07 (198.51.100.7/24) and the server 192.0.2.9 are not in one network: see that there is a route")
	assert.NotContains(t, all(write(b.device(t, "cabinet-07", "kind: device", "kind: device\naddress: 192.0.2.7/24"), "8.4.2", RunbookOptions{Server: "192.0.2.9"})), "in one network")
	for _, want := range []string{
		"The entitlement runs until 2027-03-31; release 8.4.2 is of 2026-09-30.",
		"The settings are NOT saved on the device: save them now.", "the last copy is of 2026-11-20", "> save settings to 192.0.2.9/cabinet-07.cfg",
		"The window of 10 min is TOO SHORT", "the kit has none",
		"see that there is room for 220.1 KiB.", "> fetch qm-tram-8.4.2/qm8t-a.img from 192.0.2.9 into slot B", "for slot B, never for A, which runs",
		"install the system image 8.4.2 into slot B", "> start from slot B", "within 8 min it answers again",
		"start it from slot A, which still holds 8.2.1: start from slot A, then restart now",
		"boot 3.2.0", "main 8.4.2", "slot B is the active one", "VR-310 is back", "all ports with power draw deliver power",
		"-after CAPTURE -to 8.4.2", "The way back to 8.2.1: slot A still holds 8.2.1",
	} {
		assert.Contains(t, text, want)
	}
	order := []string{"fetch qm-tram-8.4.2/boot", "fetch qm-tram-8.4.2/qm8t-a.img", "install the boot loader 3.2.0", "install the system image", "make slot B", "restart; it is without"}
	at := -1
	for _, step := range order {
		i := strings.Index(text, step)
		assert.Greater(t, i, at, step)
		at = i
	}
	assert.Equal(t, 12, one.Install.To)
	assert.Equal(t, 8, one.Outage.To)

	group := write(b.device(t, "depot-core"), "6.4.1", RunbookOptions{})
	text = all(group)
	assert.Equal(t, 67, group.Install.To)
	for _, want := range []string{"# Hop 1: release 6.1.2, on core-3", "# Hop 2: only the boot loader of release 6.4.1, on core-1, core-2, core-3", "core-2: install the boot loader 2.0.0.", "all 3 members are there", "every member is listed as ready", "it holds what runs now"} {
		assert.Contains(t, text, want)
	}
	assert.Equal(t, []int{-1, 0, 15, 33, 49, 67}, []int{group.Sections[0].At, group.Sections[1].At, group.Sections[2].At, group.Sections[3].At, group.Sections[4].At, group.Sections[5].At})

	lost := write(b.device(t, "sign-2"), "5.3.0", RunbookOptions{})
	text = all(lost)
	assert.Contains(t, text, "After hop 1 nothing leads back to 5.2.0a: decide now")
	assert.Contains(t, text, "On the way the configuration is RESET")
	assert.Contains(t, text, "load the copy again")
	assert.Contains(t, text, "the rulebook knows no way to start it again")
}

func TestConfirm(t *testing.T) {
	b := newBench(t)
	for name, c := range map[string]struct {
		edits   []string // of the capture, by pairs
		device  []string
		verdict fit.Outcome
		want    string
	}{
		"as planned":              {nil, nil, fit.Fits, "main is 8.4.2, as planned"},
		"a component stayed":      {[]string{"Boot loader : 3.2.0", "Boot loader : 3.1.4"}, nil, fit.Misfit, "boot is 3.1.4; the plan says 3.2.0"},
		"started the old image":   {[]string{"Running     : 8.4.2", "Running     : 8.2.1", "Slot A  8.2.1", "Slot A  8.2.1  *", "Slot B  8.4.2  *", "Slot B  8.4.2"}, nil, fit.Misfit, "slot A is active; the plan says B"},
		"the way back is gone":    {[]string{"Slot A  8.2.1", "Slot A  8.4.2"}, nil, fit.Misfit, "slot A holds 8.4.2; the plan says 8.2.1"},
		"another device":          {[]string{"0417-221", "0417-222"}, nil, fit.Misfit, "serial was 0417-221 and is now 0417-222"},
		"nothing of the PoE":      {[]string{"PoE firmware: 2.2\r\n", ""}, nil, fit.Unsettled, "the captures do not tell the version of poe"},
		"nothing of what is back": {nil, []string{"kind: device", "kind: device\nattached: [VR-310]"}, fit.Unsettled, "the captures do not tell what is attached"},
	} {
		t.Run(name, func(t *testing.T) {
			text, err := os.ReadFile(filepath.Join(b.dir, "captures/cab07-after.txt"))
			require.NoError(t, err)
			capture := string(text)
			for i := 0; i < len(c.edits); i += 2 {
				require.Contains(t, capture, c.edits[i])
				capture = strings.ReplaceAll(capture, c.edits[i], c.edits[i+1])
			}
			x := b.target(t, b.device(t, "cabinet-07", c.device...), path.Goal{Version: "8.4.2"})
			r, err := device.ReadSource("after.txt", []byte(capture), b.k.CaptureRules())
			require.NoError(t, err)
			got := Confirm(x, device.Merge([]*device.Reading{r}, nil, nil, b.k))
			var said []string
			for _, ch := range got.Members[0].Checks {
				said = append(said, ch.Because)
			}
			assert.Equal(t, c.verdict, got.Verdict, said)
			assert.Contains(t, strings.Join(said, "\n"), c.want)
			assert.Equal(t, []string{"all ports with power draw deliver power"}, got.Next)
		})
	}
}

// Members that are gone, strange, or at another version are told.
func TestConfirmGroup(t *testing.T) {
	b := newBench(t)
	x := b.target(t, b.device(t, "depot-core"), path.Goal{Version: "6.4.1"})
	find := func(member, key, value string) device.Finding {
		return device.Finding{Member: member, Key: key, Values: []device.Value{{Member: member, Key: key, Text: value, At: fact.Source{Kind: fact.Capture, File: "c.txt", Line: 1}}}}
	}
	draft := &device.Draft{Members: []string{"CORE-1", "core-2", "core-9"}, Findings: []device.Finding{find("CORE-1", "installed.main", "6.4.1"), find("CORE-1", "installed.boot", "2.0.0"), find("core-2", "installed.main", "6.3.0")}}
	c := Confirm(x, draft)
	assert.Equal(t, fit.Misfit, c.Verdict)
	var said []string
	for _, ch := range c.Checks {
		said = append(said, string(ch.Outcome)+" "+ch.Because)
	}
	for _, m := range c.Members {
		for _, ch := range m.Checks {
			said = append(said, m.Name+" "+string(ch.Outcome)+" "+ch.Because)
		}
	}
	for _, want := range []string{"misfit core-2 runs 6.3.0, and others 6.4.1", "unsettled there is a member core-9 that the device file does not know", "core-3 misfit the captures do not show this member", "core-1 fits main is 6.4.1, as planned", "core-2 unsettled the captures do not tell the version of boot"} {
		assert.Contains(t, said, want)
	}
}

func TestRecover(t *testing.T) {
	b := newBench(t)
	recovery, upgrade, radio := b.survey(t, "vr510-recovery-3.4.0.zip"), b.survey(t, "vr510-3.4.0.bin"), b.survey(t, "vr310-4.2.0.itb")
	for name, c := range map[string]struct {
		device   string
		edits    []string
		packages []*survey.Survey
		verdict  fit.Outcome
		chosen   string
		why      string // in a check or the sentence
		steps    int
	}{
		"the right one":               {"platform-2", nil, []*survey.Survey{radio, upgrade, recovery}, fit.Fits, "vr510-recovery-3.4.0.zip::vr510-v2.trx", "the boot loader takes trx", 5},
		"only the upgrade image":      {"platform-2", nil, []*survey.Survey{upgrade}, fit.Misfit, "vr510-3.4.0.bin", "an image for an upgrade under the running system, perhaps", 0},
		"another slot first":          {"platform-2", []string{"state: boot-loader", "state: silent\nslots: [{name: A, main: 3.4.0, active: true}, {name: B, main: 3.2.0, next: true}, {name: C, main: 3.3.0}]"}, []*survey.Survey{recovery}, fit.Fits, "vr510-recovery-3.4.0.zip::vr510-v2.trx", "takes", 8},
		"another revision":            {"platform-2", []string{"revision: v2", "revision: v1"}, []*survey.Survey{recovery}, fit.Misfit, "", "nothing is left that software can do", 0},
		"another revision, two slots": {"platform-2", []string{"revision: v2", "revision: v1", "state: boot-loader", "state: silent\nslots: [{name: A, active: true}, {name: B, main: 3.2.0}]"}, nil, fit.Fits, "", "what is stored on the device is what can be tried", 1},
		"revision not known":          {"platform-2", []string{"revision: v2\n", ""}, []*survey.Survey{recovery}, fit.Unsettled, "", "recovery of VR-510 differs by hardware revision", 0},
		"it runs":                     {"platform-2", []string{"state: boot-loader", "state: running"}, []*survey.Survey{recovery}, fit.Misfit, "", "recovery is for one that does not start", 0},
		"nothing of use":              {"platform-2", nil, nil, fit.Misfit, "", "no image that could be meant for it", 0},
		"no recovery known":           {"sign-2", nil, []*survey.Survey{recovery}, fit.Misfit, "", "ask the maker", 0},
		"model not known":             {"sign-2", []string{"VP-12", "ZZ-1"}, nil, fit.Unsettled, "", "no rulebook knows the model", 0},
	} {
		t.Run(name, func(t *testing.T) {
			r := Recover(b.device(t, c.device, c.edits...), b.rules, c.packages, fit.Options{})
			said := r.Why
			chosen := ""
			if r.Chosen != nil {
				chosen = r.Chosen.Item.Address
				for _, ch := range r.Chosen.Checks {
					said += "\n" + ch.Because
				}
			}
			assert.Equal(t, c.verdict, r.Verdict, said)
			assert.Equal(t, c.chosen, chosen)
			assert.Contains(t, said, c.why)
			assert.Len(t, r.Steps, c.steps)
		})
	}
	r := Recover(b.device(t, "platform-2"), b.rules, []*survey.Survey{recovery}, fit.Options{})
	require.Len(t, r.Others, 1)
	assert.True(t, slices.ContainsFunc(r.Others[0].Checks, func(c fit.Check) bool { return c.Check == "revision" && c.Outcome == fit.Misfit }), "the image for the other board is a misfit")
	slots := Recover(b.device(t, "platform-2", "state: boot-loader", "state: silent\nslots: [{name: A, main: 3.4.0, active: true}, {name: B, main: 3.2.0, next: true}, {name: C, main: 3.3.0}]"), b.rules, nil, fit.Options{})
	assert.Equal(t, []string{"start it from slot A, which by the device file holds 3.4.0 and ran last", "start it from slot C, which by the device file holds 3.3.0", "start it from slot B, which by the device file holds 3.2.0 and was to start next"}, slots.Slots, "what ran last first, what was to start next last, else the newer one first")
}

// What wraps a bare image, and what is too large, is refused.
func TestRecoverAccepts(t *testing.T) {
	b := newBench(t)
	recovery := b.survey(t, "vr510-recovery-3.4.0.zip")
	text, err := os.ReadFile(filepath.Join(b.dir, "rulebooks/platform.yaml"))
	require.NoError(t, err)
	for name, c := range map[string]struct{ from, to, want string }{
		"too large":       {"largest: 8MiB", "largest: 100KiB", "it is 300.1 KiB; at most 100 KiB goes over (largest: 100 KiB)"},
		"wants it bare":   {"formats: [trx]", "formats: [uimage]", "it is uimage wrapped in trx"},
		"wants it packed": {"wrapped: false", "wrapped: true", "it is the bare trx, and the boot loader takes it only with another header around it"},
		"other component": {"components: [main]", "components: [boot]", "the boot loader takes boot; this is main"},
	} {
		rb, err := rulebook.Read("platform.yaml", []byte(strings.Replace(string(text), c.from, c.to, 1)))
		require.NoError(t, err, name)
		r := Recover(b.device(t, "platform-2"), func(string) *rulebook.Rulebook { return rb }, []*survey.Survey{recovery}, fit.Options{})
		assert.Equal(t, fit.Misfit, r.Verdict, name)
		var said []string
		for _, ch := range r.Chosen.Checks {
			said = append(said, ch.Because)
		}
		assert.Contains(t, strings.Join(said, "\n"), c.want, name)
	}
}
