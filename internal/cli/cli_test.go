package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

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
		{[]string{"surveu"}, "the commands are device, survey, unpack"},
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
	} {
		status, out, errout := run(c.args...)
		assert.Equal(t, exitUsage, status, c.args)
		assert.Contains(t, errout, c.says, c.args)
		assert.Empty(t, out, "what is wrong goes to stderr: %v", c.args)
	}
}

func TestHelp(t *testing.T) {
	status, all, _ := run("help")
	assert.Equal(t, 0, status)
	for _, cmd := range commands() {
		assert.Contains(t, all, cmd.name+" ")
		for _, args := range [][]string{{"help", cmd.name}, {cmd.name, "-h"}, {cmd.name, "-help"}} {
			status, out, errout := run(args...)
			assert.Equal(t, 0, status, args)
			assert.Contains(t, out, "fitcheck "+cmd.name)
			assert.True(t, strings.Contains(strings.ToLower(out), strings.ToLower(cmd.short)), args)
			assert.Empty(t, errout)
			assert.Equal(t, cmd.tells, strings.Contains(out, "-json"), args)
			assert.Equal(t, cmd.reads, strings.Contains(out, "-max-depth"), args)
			for _, l := range strings.Split(out, "\n") {
				assert.LessOrEqual(t, len(l), 100, l)
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

func TestInterrupted(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	var out, errout bytes.Buffer
	status := Run(ctx, []string{"survey", "-kit", kitDir(t), "qm-tram-8.4.2.zip"}, Env{Stdout: &out, Stderr: &errout})
	assert.Equal(t, exitInterrupted, status)
	assert.Contains(t, errout.String(), "interrupted")
	assert.Empty(t, out.String())
}
