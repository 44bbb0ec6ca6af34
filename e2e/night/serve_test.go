package night

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/e2e/program"
)

// running is the program while it runs, and tells JSON lines.
type running struct {
	cmd    *exec.Cmd
	errout bytes.Buffer
	lines  *bufio.Scanner
	ready  map[string]any
}

// runLines starts the program in a folder.
func runLines(t *testing.T, dir string, args ...string) *running {
	t.Helper()
	r := &running{cmd: exec.Command(program.Path, args...)}
	r.cmd.Dir, r.cmd.Stderr = dir, &r.errout
	r.cmd.Env = append(os.Environ(), "FITCHECK_KIT=")
	out, err := r.cmd.StdoutPipe()
	require.NoError(t, err)
	r.lines = bufio.NewScanner(out)
	r.lines.Buffer(nil, 1<<20)
	require.NoError(t, r.cmd.Start())
	t.Cleanup(func() { _ = r.cmd.Process.Kill() })
	return r
}

// next is the next line of an event.
func (r *running) next(t *testing.T, event string) map[string]any {
	t.Helper()
	for r.lines.Scan() {
		var m map[string]any
		require.NoError(t, json.Unmarshal(r.lines.Bytes(), &m), r.lines.Text())
		if m["event"] == event {
			return m
		}
	}
	t.Fatalf("no %s: %v %s", event, r.lines.Err(), r.errout.String())
	return nil
}

// address is where a protocol is offered.
func (r *running) address(protocol string) (at string, a map[string]any) {
	for _, x := range r.ready["addresses"].([]any) {
		if a := x.(map[string]any); a["protocol"] == protocol {
			return a["address"].(string), a
		}
	}
	return "", nil
}

// ends waits for the end.
func (r *running) ends(t *testing.T, status int) {
	t.Helper()
	for r.lines.Scan() {
	}
	_ = r.cmd.Wait()
	assert.Equal(t, status, r.cmd.ProcessState.ExitCode(), r.errout.String())
}

func (r *running) interrupt(t *testing.T) {
	t.Helper()
	require.NoError(t, r.cmd.Process.Signal(syscall.SIGINT))
	r.ends(t, 130)
}

// servedFolder is a folder with a file of 33 MiB and a small one, and a list of their digests.
func servedFolder(t *testing.T) (dir string, large string) {
	dir = t.TempDir()
	data := bytes.Repeat([]byte("0123456789abcde\n\r"), 33<<20/17)
	small := []byte("small\n")
	var sums strings.Builder
	for name, b := range map[string][]byte{"large.img": data, "d/small.bin": small} {
		program.Write(t, dir, "served/"+name, b)
		s := sha256.Sum256(b)
		fmt.Fprintf(&sums, "%s  %s\n", hex.EncodeToString(s[:]), name)
	}
	program.Write(t, dir, "served/SHA256SUMS", []byte(sums.String()))
	program.Write(t, dir, "served/other.txt", []byte("not of the list"))
	s := sha256.Sum256(data)
	return dir, hex.EncodeToString(s[:])
}

func serves(t *testing.T, dir string, more ...string) *running {
	r := runLines(t, dir, append([]string{"serve", "served", "-json", "-tftp", "127.0.0.1:0", "-http", "127.0.0.1:0"}, more...)...)
	r.ready = r.next(t, "ready")
	return r
}

func sum(t *testing.T, path string) string {
	f, err := os.Open(path)
	require.NoError(t, err)
	defer f.Close()
	h := sha256.New()
	_, err = io.Copy(h, f)
	require.NoError(t, err)
	return hex.EncodeToString(h.Sum(nil))
}

// The common clients fetch from serve whole, over 32 MiB, with and without options, many at
// once.
func TestServeCommonClients(t *testing.T) {
	t.Parallel()
	dir, want := servedFolder(t)
	key := filepath.Join(dir, "key.pem")
	r := serves(t, dir, "-sftp", "127.0.0.1:0", "-sftp-key", key)
	tftp, _ := r.address("tftp")
	web, _ := r.address("http")
	_, port, err := net.SplitHostPort(tftp)
	require.NoError(t, err)
	sftpAt, login := r.address("sftp")
	assert.NotEmpty(t, login["password"])
	_, sftpPort, err := net.SplitHostPort(sftpAt)
	require.NoError(t, err)
	ran := 0
	for i, c := range [][]string{
		{"tftp", "-m", "binary", "127.0.0.1", port, "-c", "get", "large.img", "OUT"},
		{"tftp", "127.0.0.1", port, "-c", "get", "large.img", "OUT"}, // netascii, which it turns back
		{"curl", "-sf", "-o", "OUT", "tftp://" + tftp + "/large.img"},
		{"curl", "-sf", "--tftp-no-options", "-o", "OUT", "tftp://" + tftp + "/large.img"},
		{"curl", "-sf", "--tftp-blksize", "8192", "-o", "OUT", "tftp://" + tftp + "//large.img"},
		{"curl", "-sf", "-o", "OUT", "http://" + web + "/large.img"},
		{"curl", "-sf", "-r", "0-", "-o", "OUT", "http://" + web + "/large.img"},
		{"busybox", "tftp", "-g", "-r", "large.img", "-l", "OUT", "127.0.0.1", port},
		{"busybox", "tftp", "-b", "1428", "-g", "-r", "large.img", "-l", "OUT", "127.0.0.1", port},
		{"sftp", "-q", "-P", sftpPort, "-i", key, "-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null", "fitcheck@127.0.0.1:/large.img", "OUT"},
	} {
		if _, err := exec.LookPath(c[0]); err != nil {
			continue
		}
		ran++
		out := filepath.Join(dir, fmt.Sprintf("got%d", i))
		for k := range c {
			c[k] = strings.ReplaceAll(c[k], "OUT", out)
		}
		text, err := exec.Command(c[0], c[1:]...).CombinedOutput()
		require.NoError(t, err, "%v: %s", c, text)
		assert.Equal(t, want, sum(t, out), "%v", c)
		whole := r.next(t, "whole")
		assert.Equal(t, []any{"large.img", true, 100.0}, []any{whole["file"], whole["whole"], whole["percent"]}, "%v", c)
	}
	if _, err := exec.LookPath("curl"); err == nil {
		var wg sync.WaitGroup
		for i := range 20 {
			wg.Go(func() {
				at := []string{"tftp://" + tftp, "http://" + web}[i%2]
				out := filepath.Join(dir, fmt.Sprintf("many%d", i))
				if assert.NoError(t, exec.Command("curl", "-sf", "-o", out, at+"/large.img").Run()) {
					assert.Equal(t, want, sum(t, out))
				}
			})
		}
		wg.Wait()
	}
	r.interrupt(t)
	assert.NoFileExists(t, key, "the key is of one run")
	if ran == 0 {
		t.Skip("none of the clients is here")
	}
}

// What is asked for that was not staged is refused, and told; what vanishes is broken off.
func TestServeRefuses(t *testing.T) {
	t.Parallel()
	dir, _ := servedFolder(t)
	r := serves(t, dir, "-record", "night.jsonl")
	at, _ := r.address("tftp")
	web, _ := r.address("http")
	buf := make([]byte, 600)
	ask := func(packet string) string {
		p, err := net.ListenPacket("udp", "127.0.0.1:0")
		require.NoError(t, err)
		defer p.Close()
		to, err := net.ResolveUDPAddr("udp", at)
		require.NoError(t, err)
		_, err = p.WriteTo([]byte(packet), to)
		require.NoError(t, err)
		n, _, err := p.ReadFrom(buf)
		require.NoError(t, err)
		return string(buf[:n])
	}
	for name, why := range map[string]string{"../served/large.img": "no name that is offered", "/etc/passwd": "was not staged", "d": "is a folder", "other.txt": "was not staged", "SHA256SUMS": "was not staged", "d/../large.img": "no name"} {
		answer := ask("\x00\x01" + name + "\x00octet\x00")
		assert.Equal(t, byte(5), answer[1], name)
		assert.Contains(t, answer, why, name)
		assert.Contains(t, r.next(t, "refused")["because"], why, name)
	}
	assert.Equal(t, byte(5), ask("\x00\x01" + strings.Repeat("x", 10_000) + "\x00octet\x00")[1])
	assert.Equal(t, byte(5), ask("\x00\x02large.img\x00octet\x00")[1], "nothing is taken")
	assert.Equal(t, byte(3), ask("\x00\x01/large.img\x00octet\x00")[1], "a name from the root is one of the folder's")

	conn, err := net.Dial("tcp", web)
	require.NoError(t, err)
	_, err = conn.Write([]byte("GET /large.img HTTP/1.1\r\nHost: x\r\n\r\n"))
	require.NoError(t, err)
	_, err = io.ReadFull(conn, buf)
	require.NoError(t, err)
	require.NoError(t, conn.Close())
	gone := r.next(t, "broken_off")
	assert.Equal(t, "http", gone["protocol"])
	assert.Equal(t, false, gone["whole"])

	// A file that changes under it is withdrawn at once.
	program.Write(t, dir, "served/d/small.bin", []byte("smell\n"))
	assert.Equal(t, "d/small.bin", r.next(t, "withdrawn")["file"])
	r.interrupt(t)
	record, err := os.ReadFile(filepath.Join(dir, "night.jsonl"))
	require.NoError(t, err)
	assert.Contains(t, string(record), `"event":"withdrawn"`)
}

// With -once it ends when all came over; without a list of what was staged it does not begin.
func TestServeOnce(t *testing.T) {
	t.Parallel()
	dir, want := servedFolder(t)
	r := serves(t, dir, "-once")
	web, _ := r.address("http")
	at, _ := r.address("tftp")
	client := func(args ...string) {
		if out, err := exec.Command("curl", args...).CombinedOutput(); err != nil {
			t.Skipf("curl: %v %s", err, out)
		}
	}
	client("-sf", "-o", filepath.Join(dir, "a"), "-r", "1000-", "http://"+web+"/large.img")
	client("-sf", "-o", filepath.Join(dir, "b"), "tftp://"+at+"/d/small.bin")
	client("-sf", "-o", filepath.Join(dir, "c"), "-r", "0-999", "http://"+web+"/large.img")
	end := r.next(t, "ended")
	assert.Nil(t, end["missing"])
	r.ends(t, 0)
	joined, err := os.ReadFile(filepath.Join(dir, "c"))
	require.NoError(t, err)
	rest, err := os.ReadFile(filepath.Join(dir, "a"))
	require.NoError(t, err)
	s := sha256.Sum256(append(joined, rest...))
	assert.Equal(t, want, hex.EncodeToString(s[:]))

	program.Write(t, dir, "bare/x.img", []byte("x"))
	ran := program.Call(t, dir, "serve", "bare")
	assert.Equal(t, 4, ran.Status)
	assert.Contains(t, ran.Errout, "stage first")
	program.Write(t, dir, "served/large.img", []byte("x"))
	program.Write(t, dir, "served/d/small.bin", []byte("x"))
	ran = program.Call(t, dir, "serve", "-tftp", "127.0.0.1:0", "served")
	assert.Equal(t, 1, ran.Status, ran.Errout)
	assert.Contains(t, ran.Errout, "stage again")
	for _, args := range [][]string{{"serve"}, {"serve", "a", "b"}, {"serve", "served", "-tftp", "nowhere"}, {"serve", "served", "-sftp-key", "k"}} {
		assert.Equal(t, 2, program.Call(t, dir, args...).Status, args)
	}
}
