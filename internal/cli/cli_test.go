package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/demo"
)

// kitDir lays the demo kit out.
func kitDir(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	for _, f := range demo.Kit() {
		p := filepath.Join(dir, filepath.FromSlash(f.Path))
		require.NoError(t, os.MkdirAll(filepath.Dir(p), 0o755))
		require.NoError(t, os.WriteFile(p, f.Data, 0o644))
	}
	return dir
}

func run(args ...string) (status int, out, errout string) {
	var o, e bytes.Buffer
	status = Run(context.Background(), args, Env{Stdout: &o, Stderr: &e})
	return status, o.String(), e.String()
}

func TestUsage(t *testing.T) {
	kit := kitDir(t)
	for _, c := range []struct {
		args []string
		says string
	}{
		{nil, "usage: fitcheck"},
		{[]string{"install"}, "the commands are device, survey, compare, unpack"},
		{[]string{"survey"}, "usage: fitcheck survey"},
		{[]string{"survey", "a", "b"}, "usage: fitcheck survey"},
		{[]string{"survey", "-nonsense", "a"}, "nonsense"},
		{[]string{"survey", "-log", "loud", "a"}, "debug, info, warn or error"},
		{[]string{"survey", "-digest", "abc", "a"}, "ALGORITHM:HEX"},
		{[]string{"survey", "-quick", "-digest", "md5:" + strings.Repeat("0", 32), "a", "-kit", kit}, "whole file"},
		{[]string{"survey", "-max-depth", "x", "a"}, "max-depth"},
		{[]string{"survey", "-max-bytes", "-3", "a"}, "max-bytes"},
		{[]string{"match", "qm-tram-8.4.2.zip", "-kit", kit}, "-device"},
		{[]string{"unpack", "qm-tram-8.4.2.zip", "-kit", kit}, "-into"},
		{[]string{"unpack", "-into", "x", "-only", "[", "qm-tram-8.4.2.zip", "-kit", kit}, "glob"},
		{[]string{"header", "-kit", kit}, "header takes one file"},
		{[]string{"rulebook", "chek", "x"}, "rulebook check"},
		{[]string{"help", "nothing"}, "nothing"},
		{[]string{"path", "-to", "latest", "-kit", kit}, "path needs -device"},
		{[]string{"path", "-device", "cabinet-07", "-kit", kit}, "path needs -to"},
		{[]string{"path", "-device", "cabinet-07", "-to", "latest", "x.zip", "-kit", kit}, `unexpected "x.zip"`},
		{[]string{"path", "-device", "cabinet-07", "-to", "latest", "-prefer", "speed", "-kit", kit}, "resets, hops or outage"},
		{[]string{"path", "-device", "cabinet-07", "-to", "latest", "-all", "0", "-kit", kit}, "from 1 to 20"},
		{[]string{"path", "-device", "cabinet-07", "-to", "latest", "-max-states", "0", "-kit", kit}, "-max-states"},
		{[]string{"path", "-device", "cabinet-07", "-to", "latest", "-report", "x.pdf", "-kit", kit}, ".html, .md, .txt, .svg"},
		{[]string{"notes", "-kit", kit}, "notes takes packages or files"},
		{[]string{"notes", "qm-core-6.4.1.zip", "-release", "9.9.9", "-kit", kit}, "lists no release 9.9.9"},
		{[]string{"stage", "-into", "x", "-kit", kit}, "stage needs -device"},
		{[]string{"stage", "-device", "cabinet-07", "-kit", kit}, "stage needs -into"},
		{[]string{"stage", "-device", "cabinet-07", "-into", "x", "-kit", kit}, "stage takes packages, or -to"},
		{[]string{"stage", "-device", "cabinet-07", "-into", "x", "-to", "8.4.2", "-even-if", "misfit", "-kit", kit}, "a misfit is never staged"},
		{[]string{"runbook", "x.zip", "-kit", kit}, "runbook needs -device"},
		{[]string{"runbook", "-device", "cabinet-07", "-kit", kit}, "runbook takes packages, or -to"},
		{[]string{"runbook", "-device", "cabinet-07", "-to", "8.4.2", "-out", "x.doc", "-kit", kit}, ".txt, .md or .html"},
		{[]string{"confirm", "-device", "cabinet-07", "-kit", kit}, "confirm needs -after"},
		{[]string{"confirm", "-after", "x", "-kit", kit}, "confirm needs -device"},
		{[]string{"recover", "x.zip", "-kit", kit}, "recover needs -device"},
		{[]string{"recover", "-device", "depot-core", "-kit", kit}, "one box at a time"},
		{[]string{"recover", "-device", "platform-2", "-even-if", "misfit", "-kit", kit}, "a misfit is never sent"},
		{[]string{"recover", "-device", "platform-2", "-port", "70000", "-kit", kit}, "from 1 to 65535"},
		{[]string{"recover", "-device", "platform-2", "-for", "0s", "-kit", kit}, "take a time"},
		{[]string{"stand-in", "-kit", kit}, "stand-in needs -device"},
		{[]string{"stand-in", "-device", "platform-2", "-loss", "100", "-kit", kit}, "from 0 to 90"},
		{[]string{"stand-in", "-device", "platform-2", "-address", "here", "-kit", kit}, "not \"here\""},
	} {
		status, out, errout := run(c.args...)
		assert.Equal(t, exitUsage, status, c.args)
		assert.Contains(t, errout, c.says, c.args)
		assert.Empty(t, out, "what is wrong goes to stderr: %v", c.args)
	}
}

func TestHelp(t *testing.T) {
	run := func(args ...string) (int, string, string) {
		var o, e bytes.Buffer
		status := Run(context.Background(), args, Env{Stdout: &o, Stderr: &e, Width: 100})
		return status, o.String(), e.String()
	}
	status, all, _ := run("help")
	assert.Equal(t, 0, status)
	for _, cmd := range commands() {
		assert.Contains(t, all, cmd.name+" ")
		for _, args := range [][]string{{"help", cmd.name}, {cmd.name, "-h"}, {cmd.name, "-help"}} {
			status, out, errout := run(args...)
			assert.Equal(t, 0, status, args)
			assert.Contains(t, out, "fitcheck "+cmd.name)
			assert.True(t, strings.Contains(strings.ToLower(strings.Join(strings.Fields(out), " ")), strings.ToLower(cmd.short)), args)
			assert.Empty(t, errout)
			assert.Equal(t, cmd.tells, strings.Contains(out, "-json"), args)
			assert.Equal(t, cmd.reads, strings.Contains(out, "-max-depth"), args)
			for _, l := range strings.Split(out, "\n") {
				assert.LessOrEqual(t, utf8.RuneCountInString(l), 100, l)
			}
		}
	}
	for _, flag := range []string{"-h", "--help", "-help"} {
		_, out, _ := run(flag)
		assert.Equal(t, all, out)
	}
}

// Flags may stand before or after the arguments; a name that begins with a
// dash comes behind "--".
func TestFlagsAnywhere(t *testing.T) {
	kit := kitDir(t)
	var first string
	for i, args := range [][]string{
		{"match", "-kit", kit, "-device", "cabinet-07", "-json", "qm-tram-8.4.2.zip"},
		{"match", "qm-tram-8.4.2.zip", "-json", "-device", "cabinet-07", "-kit=" + kit},
		{"match", "-json", "-device=cabinet-07", "-kit", kit, "--", "qm-tram-8.4.2.zip"},
	} {
		status, out, errout := run(args...)
		require.Equal(t, exitFits, status, errout)
		if i == 0 {
			first = out
		}
		assert.Equal(t, first, out, args)
	}
	require.NoError(t, os.WriteFile(filepath.Join(kit, "packages", "-odd.bin"), []byte("\x01\x02\x80"), 0o644))
	status, out, errout := run("survey", "-kit", kit, "--", "-odd.bin")
	assert.Equal(t, exitMisfit, status, errout)
	assert.Contains(t, out, "-odd.bin")
}

func TestKitFromEnvironment(t *testing.T) {
	t.Setenv("FITCHECK_KIT", kitDir(t))
	status, _, errout := run("match", "-device", "cabinet-07", "qm-tram-8.4.2.zip")
	assert.Equal(t, exitFits, status, errout)
	t.Setenv("FITCHECK_KIT", "/nowhere/at/all")
	status, _, errout = run("match", "-device", "cabinet-07", "qm-tram-8.4.2.zip")
	assert.Equal(t, exitUnreadable, status)
	assert.Contains(t, errout, "-kit")
}

// Each bound has a flag, and the refusal names it.
func TestBoundFlags(t *testing.T) {
	kit := kitDir(t)
	for flag, value := range map[string]string{"-max-depth": "1", "-max-items": "2", "-max-bytes": "1KiB", "-max-text": "10"} {
		status, _, errout := run("survey", "-kit", kit, flag, value, "qm-tram-8.4.2.zip")
		assert.Equal(t, exitUnreadable, status, flag)
		assert.Contains(t, errout, flag+" raises the bound", flag)
	}
}

func TestStatuses(t *testing.T) {
	kit := kitDir(t)
	for _, c := range []struct {
		want int
		args []string
	}{
		{exitFits, []string{"survey", "qm-tram-8.4.2.zip"}},
		{exitFits, []string{"header", "qm-tram-8.4.2.zip::qm-tram-8.4.2/qm8t-a.img"}},
		{exitFits, []string{"version"}},
		{exitFits, []string{"rulebook", "check", filepath.Join(kit, "rulebooks", "quillmere.yaml")}},
		{exitUnsettled, []string{"match", "-device", "cabinet-07", "-quick", "qm-tram-8.4.2.zip"}},
		{exitFits, []string{"path", "-device", "depot-core", "-to", "latest"}},
		{exitFits, []string{"notes", "qm-core-6.4.1.zip"}},
		{exitFits, []string{"runbook", "-device", "cabinet-07", "qm-tram-8.4.2.zip"}},
		{exitFits, []string{"recover", "-device", "platform-2"}},
		{exitMisfit, []string{"path", "-device", "cabinet-07", "-to", "8.4.1"}},
		{exitMisfit, []string{"path", "-device", "depot-core", "-to", "6.4.1", "-avoid", "6.3.0"}},
		{exitMisfit, []string{"runbook", "-device", "cabinet-12", "qm-tram-a-8.4.2.zip"}},
		{exitMisfit, []string{"stage", "-device", "cabinet-12", "-into", filepath.Join(kit, "s"), "qm-tram-a-8.4.2.zip"}},
		{exitMisfit, []string{"recover", "-device", "platform-2", "vr510-3.4.0.bin"}},
		{exitMisfit, []string{"recover", "-device", "platform-2", "vr510-3.4.0.bin", "-watch", "-probe", "none"}},
		{exitUnsettled, []string{"path", "-device", "cabinet-07", "-to", "9.9.9"}},
		{exitUnreadable, []string{"notes", "vp12-5.1.4.bin"}},
		{exitUnreadable, []string{"notes", "gone.txt"}},
		{exitUnreadable, []string{"confirm", "-device", "cabinet-07", "-after", "gone.txt"}},
		{exitUnreadable, []string{"stand-in", "-device", "cabinet-07"}},
		{exitUnreadable, []string{"survey", "gone.zip"}},
		{exitUnreadable, []string{"header", "qm-tram-8.4.2.zip::gone.img"}},
		{exitUnreadable, []string{"match", "-device", "gone", "qm-tram-8.4.2.zip"}},
	} {
		status, out, errout := run(append(c.args, "-kit", kit)...)
		assert.Equal(t, c.want, status, "%v: %s%s", c.args, out, errout)
		assert.Equal(t, c.want == exitUnreadable, errout != "", c.args)
	}
}

// Whatever the command, -json prints one document that names itself.
func TestJSON(t *testing.T) {
	kit := kitDir(t)
	for name, args := range map[string][]string{
		"survey":   {"survey", "qm-tram-8.4.2.zip"},
		"header":   {"header", "qm-tram-8.4.2.zip::qm-tram-8.4.2/qm8t-a.img"},
		"match":    {"match", "-device", "cabinet-07", "qm-tram-8.4.2.zip"},
		"unpack":   {"unpack", "-into", t.TempDir(), "qm-tram-8.4.2.zip"},
		"path":     {"path", "-device", "depot-core", "-to", "6.4.1", "-all", "2"},
		"notes":    {"notes", "qm-core-6.4.1.zip"},
		"stage":    {"stage", "-device", "cabinet-07", "-into", filepath.Join(t.TempDir(), "s"), "qm-tram-8.4.2.zip"},
		"runbook":  {"runbook", "-device", "depot-core", "-to", "6.4.1"},
		"confirm":  {"confirm", "-device", "cabinet-07", "-after", filepath.Join(kit, "captures", "cab07-after.txt"), "-to", "8.4.2"},
		"recover":  {"recover", "-device", "platform-2"},
		"version":  {"version"},
		"rulebook": {"rulebook", "check", filepath.Join(kit, "rulebooks", "quillmere.yaml")},
	} {
		status, out, errout := run(append(args, "-json", "-kit", kit)...)
		assert.Equal(t, 0, status, errout)
		var doc struct {
			Fitcheck struct {
				Document string
				Edition  int
			}
		}
		require.NoError(t, json.Unmarshal([]byte(out), &doc), out)
		assert.Contains(t, doc.Fitcheck.Document, name)
	}
}

// The verdict is the first thing on the screen, with what it is about.
func TestVerdictFirst(t *testing.T) {
	kit := kitDir(t)
	before, after := filepath.Join(kit, "captures", "cab07.txt"), filepath.Join(kit, "captures", "cab07-after.txt")
	part := filepath.Join(kit, "part.txt")
	text, err := os.ReadFile(after)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(part, []byte(strings.ReplaceAll(string(text), "PoE firmware: 2.2", "")), 0o644))
	into := filepath.Join(kit, "served")
	for _, c := range []struct {
		first string
		args  []string
	}{
		{"PATH  depot-core gets from 6.1.2 to 6.4.1 in 4 hops", []string{"path", "-device", "depot-core", "-to", "6.4.1"}},
		{"PATH  cabinet-07 runs 8.2.1 already", []string{"path", "-device", "cabinet-07", "-to", "8.2.1"}},
		{"NO PATH  cabinet-07 cannot get from 8.2.1 to 8.4.1", []string{"path", "-device", "cabinet-07", "-to", "8.4.1"}},
		{"UNSETTLED  whether cabinet-07 can go to 9.0.0 is not settled", []string{"path", "-device", "cabinet-07", "-to", "9.0.0"}},
		{"NOTES  qm-core-6.4.1.zip::qm-core-6.4.1/NOTES.md: 9 statements that bear on the install", []string{"notes", "qm-core-6.4.1.zip"}},
		{"MISFIT  nothing is staged", []string{"stage", "-device", "cabinet-12", "-into", into, "qm-tram-a-8.4.2.zip"}},
		{"STAGED  10 files in " + into, []string{"stage", "-device", "depot-core", "-to", "6.4.1", "-into", into}},
		{"STAGED  10 files in " + into + ", all there already, as they should be", []string{"stage", "-device", "depot-core", "-to", "6.4.1", "-into", into}},
		{"STAGED  nothing needs to be: the devices run it already", []string{"stage", "-device", "cabinet-07", "-to", "8.2.1", "-into", into}},
		{"RUNBOOK  depot-core from 6.1.2 to 6.4.1", []string{"runbook", "-device", "depot-core", "-to", "6.4.1"}},
		{"MISFIT  nothing is planned", []string{"runbook", "-device", "cabinet-12", "qm-tram-a-8.4.2.zip"}},
		{"UNSETTLED  nothing is planned", []string{"runbook", "-device", "cabinet-07", "-to", "9.0.0"}},
		{"AS PLANNED  cabinet-07 did what the plan from 8.2.1 to 8.4.2 said", []string{"confirm", "-device", "cabinet-07", "-after", after, "-to", "8.4.2"}},
		{"AS PLANNED  cabinet-07 did what the plan from 8.2.1 to 8.4.2 said", []string{"confirm", "-device", "cabinet-07", "-after", after}},
		{"NOT AS PLANNED  cabinet-07 did not do what the plan from 8.2.1 to 8.4.2 said", []string{"confirm", "-device", "cabinet-07", "-after", before, "-to", "8.4.2"}},
		{"UNSETTLED  whether cabinet-07 did what the plan from 8.2.1 to 8.4.2 said is not settled", []string{"confirm", "-device", "cabinet-07", "-after", part, "-to", "8.4.2"}},
		{"RECOVER  platform-2: the boot loader takes vr510-recovery-3.4.0.zip::vr510-v2.trx", []string{"recover", "-device", "platform-2"}},
		{"REFUSED  platform-2: nothing given is an image that the boot loader takes; vr510-3.4.0.bin comes nearest", []string{"recover", "-device", "platform-2", "vr510-3.4.0.bin"}},
		{"NOTHING LEFT  sign-2: rulebooks/platform.yaml has no recovery for VP-12, and no other image is known to be stored on the device: nothing is left that software can do; ask the maker", []string{"recover", "-device", "sign-2"}},
	} {
		_, out, errout := run(append(c.args, "-kit", kit)...)
		first, _, _ := strings.Cut(out, "\n")
		assert.Equal(t, c.first, first, "%v: %s", c.args, errout)
	}
}

// Whatever stands in rulebooks, device files, notes and captures, no control
// character of it reaches a screen, a page or a document; and lines keep to the
// width.
func TestNothingActsOnTheTerminal(t *testing.T) {
	kit := kitDir(t)
	evil := `\e[31mred\u009b2J\u202e`
	edit := func(file, from, to string) {
		p := filepath.Join(kit, filepath.FromSlash(file))
		data, err := os.ReadFile(p)
		require.NoError(t, err)
		require.Contains(t, string(data), from, file)
		require.NoError(t, os.WriteFile(p, []byte(strings.ReplaceAll(string(data), from, to)), 0o644))
	}
	edit("rulebooks/quillmere-core.yaml", `why: "6.3.0 converts the settings store"`, `why: "`+evil+`"`)
	edit("rulebooks/quillmere-core.yaml", `"every member is listed as ready"`, `"`+evil+`"`)
	edit("rulebooks/quillmere-core.yaml", `RN641: "Core`, `RN641: "`+evil+`Core`)
	edit("rulebooks/platform.yaml", `lamp: "status`, `lamp: "`+evil+`status`)
	edit("rulebooks/platform.yaml", `enter: "hold`, `enter: "`+evil+`hold`)
	edit("devices/depot-core.yaml", "name: depot-core", `name: "depot`+evil+`core"`)
	edit("devices/platform-2.yaml", "name: platform-2", `name: "platform`+evil+`"`)
	notes := filepath.Join(kit, "notes.txt")
	require.NoError(t, os.WriteFile(notes, []byte("Core release 6.4.1\n\nThe boot loader must be 2.0.0 or later \x1b[2J\u202e, always.\n"), 0o644))
	after := filepath.Join(kit, "after.txt")
	require.NoError(t, os.WriteFile(after, []byte("kind: device\nname: x\nserial: \"0417"+evil+"\"\ninstalled: {main: 8.4.2}\n"), 0o644))
	page := filepath.Join(kit, "page.html")
	for _, args := range [][]string{
		{"path", "-device", "depot-core", "-to", "6.4.1"},
		{"path", "-device", "depot-core", "-to", "6.4.1", "-avoid", "6.3.0"},
		{"path", "-device", "depot-core", "-to", "6.4.1", "-report", page},
		{"notes", notes},
		{"stage", "-device", "depot-core", "-to", "6.4.1", "-into", filepath.Join(kit, "served")},
		{"runbook", "-device", "depot-core", "-to", "6.4.1"},
		{"runbook", "-device", "depot-core", "-to", "6.4.1", "-out", filepath.Join(kit, "night.html")},
		{"runbook", "-device", "depot-core", "-to", "6.4.1", "-out", filepath.Join(kit, "night.md")},
		{"confirm", "-device", "cabinet-07", "-after", after, "-to", "8.4.2"},
		{"recover", "-device", "platform-2"},
		{"recover", "-device", "platform-2", "vr510-3.4.0.bin"},
	} {
		for _, width := range []int{0, 80, 100} {
			var o, e bytes.Buffer
			Run(context.Background(), append(args, "-kit", kit), Env{Stdout: &o, Stderr: &e, Width: width})
			assertTame(t, o.String()+e.String(), args)
			for line := range strings.Lines(o.String()) {
				words := strings.Fields(line) // a word or a command that is longer stays whole, alone behind its mark
				for len(words) > 0 && words[0] != "fitcheck" && len(words[0]) <= len("package:") {
					words = words[1:]
				}
				if len(words) < 2 || words[0] == "fitcheck" {
					continue
				}
				if width > 0 && args[0] != "stage" { // a table is as wide as its columns
					assert.LessOrEqual(t, len([]rune(strings.TrimRight(line, "\n"))), width, "%v: %s", args, line)
				}
			}
		}
		_, out, _ := run(append(args, "-json", "-kit", kit)...)
		assertTame(t, out, args)
	}
	for _, f := range []string{page, filepath.Join(kit, "night.html"), filepath.Join(kit, "night.md"), filepath.Join(kit, "served", "STAGED.json")} {
		data, err := os.ReadFile(f)
		require.NoError(t, err)
		assertTame(t, string(data), []string{f})
		assert.Contains(t, string(data), "red", "what is left of it is shown")
	}
}

// assertTame: nothing but printable characters and line ends.
func assertTame(t *testing.T, text string, of []string) {
	t.Helper()
	for _, r := range text {
		if r < ' ' && r != '\n' && r != '\t' || r >= 0x7f && r <= 0x9f || r == 0x202e {
			assert.Fail(t, "a control character came through", "%U in %v", r, of)
			return
		}
	}
}

func TestInterrupted(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	var out, errout bytes.Buffer
	status := Run(ctx, []string{"survey", "-kit", kitDir(t), "qm-tram-8.4.2.zip"}, Env{Stdout: &out, Stderr: &errout})
	assert.Equal(t, exitInterrupted, status)
	assert.Contains(t, errout.String(), "interrupted")
	assert.Empty(t, out.String())
}

// -why shows all lines of all verdicts, and every stretch of an image with what proves it.
func TestWhy(t *testing.T) {
	kit := kitDir(t)
	args := []string{"match", "-kit", kit, "-device", "cabinet-07", "-device", "cabinet-12", "qm-tram-8.4.2.zip"}
	_, brief, _ := run(args...)
	_, full, _ := run(append(args, "-why")...)
	assert.NotContains(t, brief, "What else was checked")
	assert.Contains(t, full, "What else was checked")
	assert.Contains(t, full, "weakest proof: a signature")
	assert.Contains(t, full, "all bytes: signature, sha256 in")
}
