package e2e

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/e2e/program"
)

// What people get wrong: each a message that says what, where and what to do,
// and the right exit status.
func TestBadInput(t *testing.T) {
	t.Parallel()
	kit := program.WriteKit(t)
	good, err := os.ReadFile(filepath.Join(kit, "packages/qm-tram-8.4.2.zip"))
	require.NoError(t, err)
	page := []byte("<html><head><title>Sign in</title></head><body>Sign in</body></html>")
	program.Write(t, kit, "in/cut.zip", good[:len(good)/2])
	program.Write(t, kit, "in/page.img", page)
	program.Write(t, kit, "in/empty.img", nil)
	program.Write(t, kit, "in/blank.img", bytes.Repeat([]byte{0xff}, 5000))
	program.Write(t, kit, "in/zeros.img", make([]byte, 5000))
	program.Write(t, kit, "in/misspelt.yaml", []byte("kind: device\nname: x\nmodle: QM-8T\n"))
	program.Write(t, kit, "in/twice.yaml", []byte("kind: device\nname: x\nname: y\n"))
	program.Write(t, kit, "in/tab.yaml", []byte("kind: device\n\tname: x\n"))
	program.Write(t, kit, "in/text.yaml", nil)

	files := program.Unzip(t, kit, "qm-tram-8.4.2.zip")
	const m = "qm-tram-8.4.2/qm_manifest.txt"
	files[m] = append(files[m], "and one line that says nothing to anybody!\n"...)
	delete(files, "qm-tram-8.4.2/qm.sha256")
	rules := strings.Replace(readFile(t, kit, "rulebooks/quillmere.yaml"), "    signature: {item: '**/*_manifest.sig', of: manifest, key: quillmere.pem}\n", "", 1)
	program.Write(t, kit, "unsigned/rulebooks/quillmere.yaml", []byte(rules))
	program.Write(t, kit, "unsigned/layouts/qmi.yaml", []byte(readFile(t, kit, "layouts/qmi.yaml")))
	program.Write(t, kit, "unsigned/devices/cabinet-07.yaml", []byte(readFile(t, kit, "devices/cabinet-07.yaml")))
	program.Write(t, kit, "in/line/qm-tram-8.4.2.zip", program.ZipOf(t, files))

	match := func(pkg string) []string { return []string{"match", "-device", "cabinet-07", pkg} }
	on := func(device string) []string {
		return []string{"match", "-device", device, "packages/qm-tram-8.4.2.zip"}
	}
	for name, c := range map[string]struct {
		args   []string
		status int
		says   []string // in stdout and stderr together
	}{
		"truncated zip":                 {match("in/cut.zip"), 1, []string{"MISFIT", "cut.zip", "truncated", "download the package again"}},
		"survey of a truncated zip":     {[]string{"survey", "in/cut.zip"}, 1, []string{"truncated", "download the package again"}},
		"error page":                    {match("in/page.img"), 1, []string{"MISFIT", "HTML page", "portal"}},
		"survey of an error page":       {[]string{"survey", "in/page.img"}, 1, []string{"HTML page", "portal"}},
		"header of an error page":       {[]string{"header", "in/page.img"}, 4, []string{"html", "page.img"}},
		"empty file":                    {match("in/empty.img"), 1, []string{"MISFIT", "empty"}},
		"survey of an empty file":       {[]string{"survey", "in/empty.img"}, 1, []string{"empty"}},
		"header of an empty file":       {[]string{"header", "in/empty.img"}, 4, []string{"empty"}},
		"erased flash":                  {match("in/blank.img"), 1, []string{"MISFIT", "FF"}},
		"all zero":                      {match("in/zeros.img"), 1, []string{"MISFIT", "zero"}},
		"unread line in a manifest":     {[]string{"match", "-kit", "unsigned", "-device", "cabinet-07", "in/line/qm-tram-8.4.2.zip"}, 3, []string{"UNSETTLED", "line 13", "says nothing to anybody", "rulebook"}},
		"misspelt key":                  {on("in/misspelt.yaml"), 4, []string{"misspelt.yaml:3:1", `"modle"`, `"model"`}},
		"key given twice":               {on("in/twice.yaml"), 4, []string{"twice.yaml:3:1", "line 2"}},
		"tab in YAML":                   {on("in/tab.yaml"), 4, []string{"tab.yaml:2", "YAML"}},
		"empty device file":             {on("in/text.yaml"), 4, []string{"text.yaml:1:1", "empty"}},
		"no such device":                {on("cabinet-7"), 4, []string{"cabinet-7", "cabinet-07"}},
		"no such package":               {match("nothing.zip"), 4, []string{"nothing.zip", "no such file"}},
		"no such kit":                   {[]string{"match", "-kit", "elsewhere", "-device", "x", "y"}, 4, []string{"elsewhere", "-kit"}},
		"wrong digest":                  {append(match("packages/qm-tram-8.4.2.zip"), "-digest", "sha256:"+strings.Repeat("0", 64)), 1, []string{"MISFIT", "digest"}},
		"half a digest":                 {append(match("packages/qm-tram-8.4.2.zip"), "-digest", "sha256:0123"), 2, []string{"64 hexadecimal digits"}},
		"no package":                    {[]string{"match", "-device", "cabinet-07"}, 2, []string{"usage", "package"}},
		"no device":                     {[]string{"match", "packages/qm-tram-8.4.2.zip"}, 2, []string{"usage", "-device"}},
		"unknown command":               {[]string{"mach"}, 2, []string{"mach", "match"}},
		"unknown flag":                  {[]string{"survey", "-depp", "x"}, 2, []string{"depp", "usage"}},
		"no item of that address":       {[]string{"header", "packages/qm-tram-8.4.2.zip::nothing"}, 4, []string{"nothing", "survey"}},
		"a device where a file belongs": {[]string{"survey", os.DevNull}, 4, []string{"device"}},
	} {
		t.Run(name, func(t *testing.T) {
			r := program.Call(t, kit, c.args...)
			assert.Equal(t, c.status, r.Status, r.Out+r.Errout)
			for _, s := range c.says {
				assert.Contains(t, r.Out+r.Errout, s)
			}
		})
	}
}

// The program runs as another user here, since root may read everything.
func TestNoPermission(t *testing.T) {
	t.Parallel()
	if os.Getuid() != 0 || runtime.GOOS != "linux" {
		t.Skip("needs root to become another user")
	}
	dir, err := os.MkdirTemp("/tmp", "fitcheck-e2e-perm-")
	require.NoError(t, err)
	defer os.RemoveAll(dir)
	require.NoError(t, os.Chmod(dir, 0o755))
	bin, err := os.ReadFile(program.Path)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "fitcheck"), bin, 0o755))
	program.Write(t, dir, "folder/closed/a.img", []byte("x"))
	program.Write(t, dir, "folder/b.txt", []byte("x"))
	require.NoError(t, os.Chmod(filepath.Join(dir, "folder/closed"), 0))
	for path, want := range map[string]struct {
		status int
		says   string
	}{"folder/closed": {4, "permission"}, "folder": {1, "permission"}} {
		c := exec.Command(filepath.Join(dir, "fitcheck"), "survey", path)
		c.Dir = dir
		c.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
		out, _ := c.CombinedOutput()
		assert.Equal(t, want.status, c.ProcessState.ExitCode(), string(out))
		assert.Contains(t, string(out), want.says)
		assert.Contains(t, string(out), "closed")
	}
}

// Nobody's names act on a terminal or break the JSON.
func TestHostileNames(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	program.Write(t, dir, "h.zip", program.ZipOf(t, map[string][]byte{"a\x1b[31mred\u202egnp.img": uimage(2, "t\x1b[2J", []byte("x")), "../up.img": []byte("x"), "/abs.img": []byte("x"), `c:\x.img`: []byte("x")}))
	for _, args := range [][]string{{"survey", "h.zip"}, {"survey", "-json", "h.zip"}} {
		r := program.Call(t, dir, args...)
		assert.Equal(t, 1, r.Status, "unsafe names are problems")
		assert.NotContains(t, r.Out, "\x1b")
		assert.NotContains(t, r.Out, "\u202e")
		assert.Contains(t, r.Out, `\u001b`)
		assert.Contains(t, r.Out, "climbs out")
		assert.Contains(t, r.Out, "absolute")
		assert.Contains(t, r.Out, "drive letter")
	}
	program.Document(t, program.Call(t, dir, "survey", "-json", "h.zip"))
}

// Ctrl-C ends a run with a message and leaves no temporary file.
func TestInterrupt(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("no interrupt to send")
	}
	dir, tmp := t.TempDir(), t.TempDir()
	inner := program.ZipOf(t, map[string][]byte{"big.bin": bytes.Repeat([]byte("0123456789abcdef"), 8<<20)})
	program.Write(t, dir, "outer.zip", program.ZipOf(t, map[string][]byte{"a.zip": inner, "b.zip": inner, "c.zip": append(bytes.Clone(inner), make([]byte, 64<<20)...)}))
	c := exec.Command(program.Path, "survey", "outer.zip")
	var out bytes.Buffer
	c.Dir, c.Stderr = dir, &out
	c.Env = append(os.Environ(), "TMPDIR="+tmp)
	require.NoError(t, c.Start())
	ended := make(chan error, 1)
	go func() { ended <- c.Wait() }()
	// It is at work, and listens to signals, once there is a temporary file.
	for working := false; !working; {
		select {
		case <-ended:
			t.Fatal("it ended before it could be interrupted: ", out.String())
		case <-time.After(time.Millisecond):
			found, err := os.ReadDir(tmp)
			require.NoError(t, err)
			working = len(found) > 0
		}
	}
	require.NoError(t, c.Process.Signal(os.Interrupt))
	<-ended
	left, err := os.ReadDir(tmp)
	require.NoError(t, err)
	assert.Empty(t, left, "temporary files are gone")
	assert.Equal(t, 130, c.ProcessState.ExitCode(), out.String())
	assert.Contains(t, out.String(), "interrupted")
}

// A result that could not be written in full never ends with a good status.
func TestFullDisk(t *testing.T) {
	t.Parallel()
	if runtime.GOOS != "linux" {
		t.Skip("needs /dev/full")
	}
	kit := program.WriteKit(t)
	full, err := os.OpenFile("/dev/full", os.O_WRONLY, 0)
	require.NoError(t, err)
	defer full.Close()
	for _, args := range [][]string{{"survey", "qm-tram-8.4.2.zip"}, {"survey", "-json", "qm-tram-8.4.2.zip"}, {"match", "-device", "cabinet-07", "qm-tram-8.4.2.zip"}, {"version"}, {"demo"}} {
		var errout bytes.Buffer
		c := exec.Command(program.Path, args...)
		c.Dir, c.Stdout, c.Stderr = kit, full, &errout
		c.Run()
		assert.Equal(t, 4, c.ProcessState.ExitCode(), args)
		assert.Equal(t, 1, strings.Count(errout.String(), "could not be written in full"), args)
	}

	// Files of the run itself: no byte is left of what could not be written whole.
	tmp := t.TempDir()
	program.Write(t, kit, "nested.zip", program.ZipOf(t, map[string][]byte{"in.zip": program.ZipOf(t, map[string][]byte{"a": noise(40 << 20)})}))
	for _, args := range [][]string{{"unpack", "-into", "out", "qm-tram-8.4.2.zip"}, {"survey", "nested.zip"}} {
		var errout bytes.Buffer
		c := exec.Command("sh", append([]string{"-c", `ulimit -f 8; exec "$0" "$@"`, program.Path}, args...)...)
		c.Dir, c.Stderr = kit, &errout
		c.Env = append(os.Environ(), "TMPDIR="+tmp)
		c.Run()
		assert.Equal(t, 4, c.ProcessState.ExitCode(), args)
		assert.Contains(t, errout.String(), "free some space", args)
		for _, dir := range []string{tmp, filepath.Join(kit, "out")} {
			left, _ := os.ReadDir(dir)
			assert.Empty(t, left, args)
		}
	}
}

// noise is data that does not compress.
func noise(n int) []byte {
	out := make([]byte, n)
	x := uint64(88172645463325252)
	for i := range out {
		x ^= x << 13
		x ^= x >> 7
		x ^= x << 17
		out[i] = byte(x)
	}
	return out
}

// raw is what the language, the system and decoders say of themselves.
var raw = regexp.MustCompile(`no such file or directory|not a directory|is a directory|permission denied|invalid argument|\bEOF\b|strconv|syntax error|invalid (?:character|syntax)|looking for|unexpected end|connection refused|(?:open|mkdir|mkdirat|openat|l?stat|rename|unlinkat|readdirent|listen|dial) ?(?:udp|tcp)?\d? ?[/:]|\bbind: |(?:read|write) /|goroutine|runtime error|%!|(?:^|: )yaml: |json: (?:cannot|unsupported)|x509:|asn1:|not defined|parse error|line \d+: did not find`)

// Whatever is wrong with a call, what is said of it is in words that were chosen, as text and
// as JSON.
func TestNothingRawIsSaid(t *testing.T) {
	t.Parallel()
	kit := program.WriteKit(t)
	file := func(name, text string) string { return program.Write(t, kit, name, []byte(text)) }
	afile := file("a-file", "words")
	for _, name := range []string{"half.json", "bad.json", "half.xml", "bad.xml", "list.yaml", "tab.yaml", "noise.yaml", "deep.yaml", "twice.yaml", "not.pdf", "not.gz", "not.html"} {
		file(name, map[string]string{"half.json": `{"a": `, "bad.json": `{"a": }`, "half.xml": "<a><b>", "bad.xml": "<a></b>", "list.yaml": "kind: device\nname: [\n", "tab.yaml": "kind: device\n\tname: x\n",
			"noise.yaml": "\x00\x01\xff\xfe", "deep.yaml": strings.Repeat("[", 400), "twice.yaml": "kind: device\nname: a\nname: b\n", "not.pdf": "%PDF-1.7\nwords", "not.gz": "\x1f\x8b\x08words", "not.html": "<!doctype html><p>x"}[name])
	}
	calls := [][]string{
		{"survey", "gone.zip"}, {"survey", afile + "/inside"}, {"match", "-device", "gone", "gift.zip"}, {"match", "-device", afile + "/x", "gift.zip"}, {"header", "gone"}, {"header", "packages/gift.zip::gone"},
		{"unpack", "-into", afile, "qm-tram-8.4.2.zip"}, {"unpack", "-into", afile + "/x", "qm-tram-8.4.2.zip"}, {"stage", "-device", "cabinet-07", "-to", "8.4.2", "-into", afile + "/x"},
		{"runbook", "-device", "cabinet-07", "-to", "8.4.2", "-out", afile + "/r.html"}, {"confirm", "-device", "cabinet-07", "-to", "8.4.2", "-after", "gone.txt"},
		{"confirm", "-device", "cabinet-07", "-to", "8.4.2", "-after", "captures/cab07-after.txt", "-record", afile + "/r"}, {"match", "-device", "cabinet-07", "qm-tram-8.4.2.zip", "-report", afile + "/r.html"},
		{"rulebook", "check", "gone.yaml"}, {"rulebook", "draft", "gone.zip"}, {"notes", "gone.zip"}, {"notes", "not.pdf"}, {"compare", "gone.zip", "gift.zip"}, {"recover", "-device", "platform-2", "gone.bin"}, {"demo", afile + "/x"}, {"demo", afile},
		{"match", "-kit", "gone", "-device", "x", "y"}, {"match", "-kit", afile, "-device", "x", "y"}, {"device", "."}, {"device", "gone"}, {"device", "packages/gift.zip"}, {"device", "-out", afile + "/d.yaml", "captures/cab07.txt"}, {"device", "-set", "x", "captures/cab07.txt"},
		{"survey", "-max-items", "x", "gift.zip"}, {"survey", "-max-bytes", "-1", "gift.zip"}, {"survey", "-digest", "sha256:zz", "gift.zip"}, {"unpack", "-into", "o", "-only", "[", "gift.zip"}, {"path", "-device", "cabinet-07", "-to", "8.4.2", "-all", "0"},
		{"stand-in", "-device", "platform-2", "-address", "203.0.113.77"}, {"recover", "-device", "platform-2", "-watch", "-address", "nowhere"}, {"explain", "x"}, {"completion", "x"}, {"nothing"}, {"survey", "-nothing"},
	}
	for _, name := range []string{"half.json", "bad.json", "half.xml", "bad.xml", "list.yaml", "tab.yaml", "noise.yaml", "deep.yaml", "twice.yaml", "not.gz"} {
		calls = append(calls, []string{"device", name}, []string{"match", "-device", name, "gift.zip"}, []string{"rulebook", "check", name}, []string{"survey", name})
	}
	for _, args := range calls {
		r := program.Call(t, kit, args...)
		assert.NotContains(t, r.Errout, "report it", "%v", args)
		said := r.Errout
		if args[0] == "rulebook" {
			said += r.Out
		}
		assert.Empty(t, raw.FindAllString(said, -1), "%v: %s", args, said)
		if args[0] == "nothing" || args[0] == "completion" || args[0] == "stand-in" {
			continue
		}
		r = program.Call(t, kit, append(args, "-json")...)
		doc := program.Document(t, r)
		if failed, ok := doc["error"].(map[string]any); ok {
			assert.NotEmpty(t, failed["code"], args)
			assert.NotEmpty(t, failed["what"], args)
			assert.Empty(t, raw.FindAllString(fmt.Sprint(failed), -1), "%v: %v", args, failed)
		}
	}
}
