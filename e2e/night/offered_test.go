package night

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/e2e/program"
)

var offered = regexp.MustCompile(`fitcheck (?:[a-z]+-)?[a-z]+(?: (?:'[^']*'|\\.|[^\s',;\\])+)+`)

// The commands that are offered can be pasted into a shell as they are printed, in the
// folder that one is in, whatever blanks and quotes names have.
func TestOfferedCommandsCanBePasted(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("another shell")
	}
	t.Parallel()
	kit := filepath.Join(t.TempDir(), "my kit's")
	require.NoError(t, os.CopyFS(kit, os.DirFS(program.WriteKit(t))))
	require.NoError(t, os.Rename(filepath.Join(kit, "devices/depot-core.yaml"), filepath.Join(kit, "devices/depot core.yaml")))
	require.NoError(t, os.Rename(filepath.Join(kit, "packages/qm-core-6.1.2.zip"), filepath.Join(kit, "packages/core (old) 6.1.2.zip")))
	elsewhere := t.TempDir()
	ran := 0
	for i, args := range [][]string{
		{"path", "-device", "depot core", "-to", "6.4.1"},
		{"path", "-device", "platform-9", "-to", "23.4.2", "-family", "lantern"},
		{"path", "-device", "depot core", "-to", "6.4.1", "-avoid", "6.4.1"},
		{"runbook", "-device", "depot core", "-to", "6.4.1"},
		{"runbook", "-device", "cabinet-07", "qm-tram-8.4.2.zip"},
		{"match", "-device", "cabinet-12", "qm-tram-a-8.4.2.zip"},
		{"recover", "-device", "sign-2"},
	} {
		for in, flags := range map[string][]string{kit: nil, elsewhere: {"-kit", kit}} {
			if in == kit && i > 0 {
				continue
			}
			r := program.Call(t, in, append(args, flags...)...)
			for line := range strings.SplitSeq(r.Out+r.Errout, "\n") {
				for _, command := range offered.FindAllString(line, -1) {
					for _, prose := range []string{" tells ", " shows ", " does it:", " and "} {
						command, _, _ = strings.Cut(command+" ", prose)
					}
					if strings.Contains(command, " -watch") || !strings.Contains(command, " -") {
						continue // it would wait for a device; or it only names the command
					}
					command = strings.NewReplacer("-into DIR", `-into "$DIR"`, "-after CAPTURE", `-after "$CAPTURE"`).Replace(command)
					c := exec.Command("sh", "-c", `fitcheck() { "$PROGRAM" "$@"; }; `+command)
					c.Dir, c.Env = in, append(os.Environ(), "PROGRAM="+program.Path, "DIR="+filepath.Join(t.TempDir(), "d d"), "CAPTURE="+filepath.Join(kit, "captures/cab07-after.txt"), "FITCHECK_KIT=")
					out, _ := c.CombinedOutput()
					assert.Contains(t, []int{0, 1, 3}, c.ProcessState.ExitCode(), "%v offers\n%s\n%s", args, command, out)
					ran++
				}
			}
		}
	}
	assert.Greater(t, ran, 10)
}
