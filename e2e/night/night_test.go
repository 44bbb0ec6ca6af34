package night

import (
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/tftp"
	"fitcheck/e2e/program"
)

// staged holds every file below a folder against its list; nothing that is not
// whole may be there under its final name.
func staged(t *testing.T, dir string) (files int, done bool) {
	sums := map[string]string{}
	if text, err := os.ReadFile(filepath.Join(dir, "SHA256SUMS")); err == nil {
		for line := range strings.Lines(string(text)) {
			sum, name, ok := strings.Cut(strings.TrimSpace(line), "  ")
			require.True(t, ok)
			sums[name] = sum
		}
	}
	_ = filepath.WalkDir(dir, func(p string, e os.DirEntry, err error) error {
		if err != nil {
			return nil
		}
		if strings.HasPrefix(e.Name(), ".fitcheck-stage-") {
			return filepath.SkipDir
		}
		if e.IsDir() {
			return nil
		}
		rel, _ := filepath.Rel(dir, p)
		files++
		if want, ok := sums[filepath.ToSlash(rel)]; ok {
			data, err := os.ReadFile(p)
			require.NoError(t, err)
			assert.Equal(t, want, fmt.Sprintf("%x", sha256.Sum256(data)), rel)
		}
		return nil
	})
	_, err := os.Stat(filepath.Join(dir, "STAGED.json"))
	return files, err == nil
}

// However and whenever stage is killed, no file is there that is not whole, and
// the next run completes it.
func TestKilledStage(t *testing.T) {
	t.Parallel()
	if runtime.GOOS == "windows" {
		t.Skip("processes are not killed so there")
	}
	dir := program.WriteKit(t)
	args := []string{"stage", "-device", "depot-core", "-to", "6.4.1", "-into"}
	whole := program.Call(t, dir, append(args, "reference")...)
	require.Equal(t, 0, whole.Status, whole.Errout)
	want := map[string]string{}
	require.NoError(t, filepath.WalkDir(filepath.Join(dir, "reference"), func(p string, e os.DirEntry, err error) error {
		if err == nil && !e.IsDir() {
			data, _ := os.ReadFile(p)
			rel, _ := filepath.Rel(filepath.Join(dir, "reference"), p)
			want[rel] = fmt.Sprintf("%x", sha256.Sum256(data))
		}
		return err
	}))
	begun := time.Now()
	require.Equal(t, 0, program.Call(t, dir, append(args, "timing")...).Status)
	takes := time.Since(begun)
	killed := 0
	for i := range 16 {
		into := fmt.Sprintf("served-%d", i%8) // some are found half done
		if i%2 == 1 {
			require.NoError(t, os.MkdirAll(filepath.Join(dir, into), 0o755))
		}
		c := exec.Command(program.Path, append(args, into)...)
		c.Dir = dir
		require.NoError(t, c.Start())
		time.Sleep(time.Duration(rand.Int64N(int64(takes * 5 / 4))))
		if c.Process.Kill() == nil {
			killed++
		}
		_ = c.Wait()
		_ = filepath.WalkDir(filepath.Join(dir, into), func(p string, e os.DirEntry, err error) error {
			if err != nil {
				return nil
			}
			if strings.HasPrefix(e.Name(), ".fitcheck-stage-") {
				return filepath.SkipDir
			}
			if !e.IsDir() {
				data, err := os.ReadFile(p)
				require.NoError(t, err)
				rel, _ := filepath.Rel(filepath.Join(dir, into), p)
				assert.Equal(t, want[rel], fmt.Sprintf("%x", sha256.Sum256(data)), "%s after it was killed", rel)
			}
			return nil
		})
	}
	assert.Greater(t, killed, 4)
	for i := range 8 {
		into := fmt.Sprintf("served-%d", i)
		r := program.Call(t, dir, append(args, into)...)
		require.Equal(t, 0, r.Status, r.Errout)
		n, done := staged(t, filepath.Join(dir, into))
		assert.True(t, done)
		assert.Equal(t, len(want), n)
		left, _ := filepath.Glob(filepath.Join(dir, into, ".fitcheck-stage-*"))
		assert.Empty(t, left)
	}
	left, _ := filepath.Glob(filepath.Join(dir, ".fitcheck-stage-*"))
	assert.Empty(t, left, "what killed runs left behind is swept up")
}

func TestStageRefuses(t *testing.T) {
	t.Parallel()
	dir := program.WriteKit(t)
	r := program.Call(t, dir, "stage", "-device", "cabinet-12", "-into", "s", "packages/qm-tram-a-8.4.2.zip", "-even-if", "unsettled")
	assert.Equal(t, 1, r.Status)
	assert.Contains(t, r.Text(), "the device's hardware revision is B1; the image is for A1, A2 (manifest)")
	assert.NoDirExists(t, filepath.Join(dir, "s"))

	// What is not settled is staged only when that is asked for.
	file := filepath.Join(dir, "devices/cabinet-07.yaml")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, []byte(strings.Replace(strings.Replace(string(text), "revision: A2\n", "", 1), "  revision: captures/cab07.txt:5\n", "", 1)), 0o644))
	r = program.Call(t, dir, "stage", "-device", "cabinet-07", "-into", "s", "packages/qm-tram-8.4.2.zip")
	assert.Equal(t, 3, r.Status, r.Out)
	assert.NoDirExists(t, filepath.Join(dir, "s"))
	r = program.Call(t, dir, "stage", "-device", "cabinet-07", "-into", "s", "packages/qm-tram-8.4.2.zip", "-even-if", "unsettled")
	assert.Equal(t, 0, r.Status, r.Out+r.Errout)
	assert.Contains(t, r.Out, "is unsettled, and staged all the same")

	require.NoError(t, os.MkdirAll(filepath.Join(dir, "t/qm-tram-8.4.2"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "t/qm-tram-8.4.2/qm8t-b.img"), []byte("mine"), 0o644))
	r = program.Call(t, dir, "stage", "-device", "cabinet-12", "-into", "t", "packages/qm-tram-8.4.2.zip")
	assert.Equal(t, 4, r.Status)
	assert.Contains(t, r.Errout, "in the way and different: t/qm-tram-8.4.2/qm8t-b.img")
}

// For every device of the demo, the commands agree with each other.
func TestCommandsAgree(t *testing.T) {
	t.Parallel()
	dir := program.WriteKit(t)
	devices, err := filepath.Glob(filepath.Join(dir, "devices/*.yaml"))
	require.NoError(t, err)
	checked := 0
	for _, file := range devices {
		name := strings.TrimSuffix(filepath.Base(file), ".yaml")
		doc, r := askPath(t, dir, "-device", name, "-to", "latest")
		if r.Status != 0 || len(doc.Hops) == 0 {
			s := program.Call(t, dir, "stage", "-device", name, "-to", "latest", "-into", "none")
			assert.True(t, s.Status == r.Status || r.Status == 0, "%s: without a path nothing is staged: %s", name, s.Out)
			continue
		}
		// match of the first hop's package fits when the first hop is all there is.
		for i, h := range doc.Hops {
			if h.Package == "to download" || i > 0 || h.BootOnly || len(h.Members) > 0 && len(doc.Hops) > 1 {
				continue
			}
			m := program.Call(t, dir, append([]string{"match", "-device", name, "-others=false"}, strings.Split(h.Package, " + ")...)...)
			assert.Equal(t, 0, m.Status, "%s: path takes %s, and match says\n%s", name, h.Package, m.Out)
		}
		s := program.Call(t, dir, "stage", "-device", name, "-to", doc.To, "-into", "served-"+name, "-json")
		b := program.Call(t, dir, "runbook", "-device", name, "-to", doc.To, "-json")
		missing := false
		for _, h := range doc.Hops {
			missing = missing || h.Package == "to download"
		}
		if missing {
			assert.Equal(t, 1, s.Status, name)
			assert.Equal(t, 1, b.Status, name)
			continue
		}
		require.Equal(t, 0, s.Status, "%s: %s%s", name, s.Out, s.Errout)
		require.Equal(t, 0, b.Status, "%s: %s%s", name, b.Out, b.Errout)
		var served struct {
			Files []struct{ Path, SHA256 string }
		}
		require.NoError(t, json.Unmarshal([]byte(s.Out), &served))
		for _, f := range served.Files {
			assert.Contains(t, b.Out, f.Path, "%s: the runbook fetches what is staged", name)
			assert.Contains(t, b.Out, f.SHA256, name)
		}
		for i, h := range doc.Hops {
			assert.Contains(t, b.Out, fmt.Sprintf("Hop %d: ", i+1), name)
			assert.Contains(t, b.Out, h.Release, name)
		}
		// What the plan promises is confirmed by a device that is so, and what ran
		// before is not.
		after := filepath.Join(dir, name+"-after.yaml")
		require.NoError(t, os.WriteFile(after, promised(t, name, r.Out), 0o644))
		args := []string{"confirm", "-device", name, "-to", doc.To, "-json", "-after"}
		c := program.Call(t, dir, append(args, after)...)
		assert.Contains(t, []int{0, 3}, c.Status, "%s: %s", name, c.Out)
		assert.NotContains(t, c.Out, `"outcome": "misfit"`, name)
		c = program.Call(t, dir, append(args, file)...)
		assert.Equal(t, 1, c.Status, "%s: what ran before is not what was planned: %s", name, c.Out)
		checked++
	}
	assert.GreaterOrEqual(t, checked, 6)
	// What was promised is confirmed when it is there, and not when it is not.
	r := program.Call(t, dir, "confirm", "-device", "cabinet-07", "-after", "captures/cab07-after.txt", "-to", "8.4.2", "-record", "log/record.jsonl", "-by", "M. Brook")
	assert.Equal(t, 0, r.Status, r.Out)
	r = program.Call(t, dir, "confirm", "-device", "cabinet-07", "-after", "captures/cab07.txt", "-to", "8.4.2", "-record", "log/record.jsonl")
	assert.Equal(t, 1, r.Status, r.Out)
	record, err := os.ReadFile(filepath.Join(dir, "log/record.jsonl"))
	require.NoError(t, err)
	lines := strings.Split(strings.TrimSpace(string(record)), "\n")
	require.Len(t, lines, 2)
	var line struct {
		By, Device, From, To, Verdict string
		Time                          time.Time
		Captures, Images              []struct{ File, SHA256 string }
	}
	require.NoError(t, json.Unmarshal([]byte(lines[0]), &line))
	assert.Equal(t, "M. Brook", line.By)
	assert.Equal(t, "fits", line.Verdict)
	assert.Len(t, line.Images, 3)
	assert.WithinDuration(t, time.Now(), line.Time, time.Hour)
}

// promised writes a device file by the components that the hops of a path
// change.
func promised(t *testing.T, name, pathOut string) []byte {
	var doc struct {
		Hops []struct {
			Members    []string
			Components []struct{ Member, Component, To string }
		}
	}
	require.NoError(t, json.Unmarshal(program.Result(t, pathOut), &doc))
	installed := map[string]map[string]string{}
	for _, h := range doc.Hops {
		for _, c := range h.Components {
			if installed[c.Member] == nil {
				installed[c.Member] = map[string]string{}
			}
			installed[c.Member][c.Component] = c.To
		}
	}
	line := func(of map[string]string) string {
		var out []string
		for c, v := range of {
			out = append(out, fmt.Sprintf("%s: '%s'", c, v))
		}
		return "installed: {" + strings.Join(out, ", ") + "}"
	}
	text := "kind: device\nname: " + name + "\n"
	if len(installed) == 1 && installed[""] != nil {
		return []byte(text + line(installed[""]) + "\n")
	}
	text += "group: stack\nmembers:\n"
	for name, of := range installed {
		text += fmt.Sprintf("  - {name: %s, %s}\n", name, line(of))
	}
	return []byte(text)
}

func TestRunbookForms(t *testing.T) {
	t.Parallel()
	dir := program.WriteKit(t)
	for _, ending := range []string{"md", "html", "txt"} {
		r := program.Call(t, dir, "runbook", "-device", "depot-core", "-to", "6.4.1", "-out", "night."+ending)
		require.Equal(t, 0, r.Status, r.Errout)
		text, err := os.ReadFile(filepath.Join(dir, "night."+ending))
		require.NoError(t, err)
		for _, want := range []string{"Hop 2", "only the boot loader of release 6.4.1", "core-3"} {
			assert.Contains(t, string(text), want, ending)
		}
		if ending == "html" {
			assert.Contains(t, string(text), `type="checkbox"`)
			assert.NotContains(t, string(text), "src=")
		}
		assert.Equal(t, 4, program.Call(t, dir, "runbook", "-device", "depot-core", "-to", "6.4.1", "-out", "night."+ending).Status, "a file that is there is kept")
	}
	r := program.Call(t, dir, "runbook", "-device", "cabinet-12", "packages/qm-tram-a-8.4.2.zip")
	assert.Equal(t, 1, r.Status)
	assert.Contains(t, r.Out, "nothing is planned")
}

// standsIn starts a stand-in on ports that are free, and waits until it answers there. A port
// that somebody else takes meanwhile is given up for another.
func standsIn(t *testing.T, dir string) (*exec.Cmd, []string) {
	t.Helper()
	for range 20 {
		ports := program.FreePorts(t)([]string{"PORT", "ECHO"})
		stand := exec.Command(program.Path, "stand-in", "-device", "platform-2", "-port", ports[0], "-echo", ports[1], "-old", "700ms", "-dead", "200ms", "-write", "2s", "-wait", "1h", "-once", "-loss", "3", "-out", "runs.trx")
		stand.Dir = dir
		out, err := stand.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, stand.Start())
		lines := bufio.NewReader(out)
		if first, err := lines.ReadString('\n'); err == nil && strings.HasPrefix(first, "STAND-IN") {
			go io.Copy(io.Discard, lines)
			return stand, ports
		}
		_ = stand.Wait()
	}
	t.Fatal("no stand-in could be started")
	return nil, nil
}

// The router is brought back over loopback, by the program on both sides.
func TestRecoverOverLoopback(t *testing.T) {
	dir := program.WriteKit(t)
	stand, ports := standsIn(t, dir)
	defer stand.Process.Kill()
	watch := exec.Command(program.Path, "recover", "-device", "platform-2", "-watch", "-address", "127.0.0.1", "-port", ports[0], "-probe", "udp:"+ports[1], "-settle", "1h", "-for", "1h")
	watch.Dir = dir
	var said bytes.Buffer
	watch.Stdout, watch.Stderr = &said, &said
	require.NoError(t, watch.Start())
	ended := make(chan error, 1)
	go func() {
		err := stand.Wait()
		if err != nil { // nobody will answer any more
			_ = watch.Process.Kill()
		}
		ended <- err
	}()
	require.NoError(t, watch.Wait(), said.String())
	r := program.Ran{Out: said.String()}
	// Whether the old system is still seen depends on how soon both programs run.
	for _, want := range []string{"the boot loader waits (time to live 200)", "the image is over", "BACK  the device is back: the new system answers"} {
		assert.Contains(t, r.Out, want)
	}
	require.NoError(t, <-ended)
	got, err := os.ReadFile(filepath.Join(dir, "runs.trx"))
	require.NoError(t, err)
	u := program.Call(t, dir, "unpack", "-into", "u", "packages/vr510-recovery-3.4.0.zip")
	require.Equal(t, 0, u.Status, u.Errout)
	want, err := os.ReadFile(filepath.Join(dir, "u/vr510-v2.trx"))
	require.NoError(t, err)
	assert.True(t, bytes.Equal(want, got))

	r = program.Call(t, dir, "recover", "-device", "platform-2", "packages/vr510-3.4.0.bin", "-watch", "-address", "127.0.0.1", "-port", ports[0], "-probe", "none")
	assert.Equal(t, 1, r.Status, "a misfit is never sent")
	assert.Contains(t, r.Out, "REFUSED")
}

// tools of Debian's packages tftpd-hpa and tftp-hpa.
func tftpTools(t *testing.T) (server, client string) {
	server, client = "/usr/sbin/in.tftpd", "/usr/bin/tftp"
	for _, f := range []string{server, client} {
		if _, err := os.Stat(f); err != nil {
			t.Skipf("%s is not installed", f)
		}
	}
	if v, err := exec.Command(client, "-V").CombinedOutput(); err != nil || !strings.Contains(string(v), "tftp-hpa") {
		t.Skip("the client is another one")
	}
	if os.Getuid() != 0 {
		t.Skip("the server changes its root, which takes special rights")
	}
	return server, client
}

// listens waits until a server answers.
func listens(t *testing.T, addr *net.UDPAddr) {
	conn, err := net.ListenUDP("udp4", nil) // it answers from another port
	require.NoError(t, err)
	defer conn.Close()
	b := make([]byte, 600)
	for {
		_, _ = conn.WriteToUDP([]byte("\x00\x01is it there?\x00octet\x00"), addr)
		require.NoError(t, conn.SetReadDeadline(time.Now().Add(200*time.Millisecond)))
		if _, err := conn.Read(b); err == nil {
			return
		}
	}
}

// What is staged arrives whole through another server and another client; and
// our own side works with them both ways, over more than 32 MiB.
func TestOtherTFTP(t *testing.T) {
	server, client := tftpTools(t)
	dir := program.WriteKit(t)
	require.Equal(t, 0, program.Call(t, dir, "stage", "-device", "depot-core", "-to", "6.4.1", "-into", "served").Status)
	root := filepath.Join(dir, "served")
	for d := dir; d != filepath.Clean(os.TempDir()) && d != "/" && d != "."; d = filepath.Dir(d) {
		_ = os.Chmod(d, 0o755) // the server gives up its rights
	}
	big := make([]byte, 33<<20+17)
	rand.NewChaCha8([32]byte{1}).Read(big)
	require.NoError(t, os.WriteFile(filepath.Join(root, "big.bin"), big, 0o644))
	for _, n := range []string{"in.bin", "in-small.bin"} {
		require.NoError(t, os.WriteFile(filepath.Join(root, n), nil, 0o666))
		require.NoError(t, os.Chmod(filepath.Join(root, n), 0o666))
	}
	free, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	require.NoError(t, err)
	addr := free.LocalAddr().(*net.UDPAddr)
	free.Close()
	daemon := exec.Command(server, "-L", "-a", addr.String(), "-s", root)
	require.NoError(t, daemon.Start())
	defer daemon.Process.Kill()
	listens(t, addr)

	// Their client fetches what is staged.
	sums, err := os.ReadFile(filepath.Join(root, "SHA256SUMS"))
	require.NoError(t, err)
	arrived := t.TempDir()
	n := 0
	for line := range strings.Lines(string(sums)) {
		sum, name, _ := strings.Cut(strings.TrimSpace(line), "  ")
		to := filepath.Join(arrived, fmt.Sprint(n))
		c := exec.Command(client, "-m", "binary", "127.0.0.1", fmt.Sprint(addr.Port), "-c", "get", name, to)
		said, err := c.CombinedOutput()
		require.NoError(t, err, string(said))
		data, err := os.ReadFile(to)
		require.NoError(t, err, string(said))
		assert.Equal(t, sum, fmt.Sprintf("%x", sha256.Sum256(data)), name)
		n++
	}
	assert.Equal(t, 10, n)

	// Our client and their server: with large blocks, and with block numbers that
	// begin anew.
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	for _, block := range []int{0, 1428, 65464} {
		var got bytes.Buffer
		_, err := tftp.Get(ctx, addr, "big.bin", &got, tftp.Options{BlockSize: block, Timeout: time.Second})
		require.NoError(t, err, block)
		assert.True(t, bytes.Equal(big, got.Bytes()), block)
	}
	require.NoError(t, tftp.Put(ctx, addr, "in.bin", bytes.NewReader(big), int64(len(big)), tftp.Options{BlockSize: 1428, Timeout: time.Second}))
	require.Eventually(t, func() bool {
		data, err := os.ReadFile(filepath.Join(root, "in.bin"))
		return err == nil && bytes.Equal(big, data)
	}, 10*time.Minute, 20*time.Millisecond)
	var told *tftp.Error
	_, err = tftp.Get(ctx, addr, "not-there", &bytes.Buffer{}, tftp.Options{Timeout: time.Second})
	require.ErrorAs(t, err, &told)
	assert.Equal(t, tftp.CodeNotFound, told.Code)
}
