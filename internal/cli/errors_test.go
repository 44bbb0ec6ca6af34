package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"flag"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/fit/check"
	"fitcheck/core/shell"
)

// With -json what goes wrong is one document, too, on the same stream; it says what,
// where, and what to do. People read the same on the other.
func TestErrorsInJSON(t *testing.T) {
	kit := kitDir(t)
	require.NoError(t, os.WriteFile(filepath.Join(kit, "devices", "torn.yaml"), []byte("kind: device\nname: x\nmodle: QM-8T\n"), 0o644))
	for name, c := range map[string]struct {
		args               []string
		status             int
		code, what, advice string
		where              string
	}{
		"no such file":     {[]string{"survey", "gone.zip"}, exitUnreadable, "refused.open", "gone.zip", "", "gone.zip"},
		"no such device":   {[]string{"match", "-device", "gone", "qm-tram-8.4.2.zip"}, exitUnreadable, "refused", "gone", "", ""},
		"a torn file":      {[]string{"match", "-device", "torn", "qm-tram-8.4.2.zip"}, exitUnreadable, "refused.file", "modle", "", "torn.yaml:3:1"},
		"a bound":          {[]string{"survey", "-max-items", "2", "qm-tram-8.4.2.zip"}, exitUnreadable, "refused.bound", "bound", "-max-items raises the bound", ""},
		"what is missing":  {[]string{"match", "qm-tram-8.4.2.zip"}, exitUsage, "usage", "-device", "", ""},
		"a flag":           {[]string{"match", "-nonsense", "qm-tram-8.4.2.zip"}, exitUsage, "usage", "nonsense", "", ""},
		"a reason":         {[]string{"explain", "model.wrong"}, exitUsage, "usage", `no reason "model.wrong"`, "fitcheck explain model lists those of that check", ""},
		"two reasons":      {[]string{"explain", "a", "b"}, exitUsage, "usage", "one code", "", ""},
		"no such rulebook": {[]string{"rulebook", "check", "gone.yaml"}, exitUnreadable, "refused", "gone.yaml", "", ""},
	} {
		t.Run(name, func(t *testing.T) {
			status, out, errout := run(append(c.args, "-json", "-kit", kit)...)
			assert.Equal(t, c.status, status)
			var doc struct {
				Fitcheck struct{ Document string }
				Error    struct{ Code, What, Where, Advice string }
			}
			require.NoError(t, json.Unmarshal([]byte(out), &doc), out)
			assert.Equal(t, "error", doc.Fitcheck.Document)
			assert.Equal(t, c.code, doc.Error.Code)
			assert.Contains(t, doc.Error.What, c.what)
			assert.Contains(t, doc.Error.Where, c.where)
			assert.Contains(t, doc.Error.Advice, c.advice)
			assert.Contains(t, errout, "fitcheck: ", "and people are told, too")

			_, out, errout = run(append(c.args, "-kit", kit)...)
			assert.Empty(t, out)
			assert.Contains(t, errout, c.what)
		})
	}
}

// A fault of the program is an error like others: no stack, no half document.
func TestFault(t *testing.T) {
	broken := &command{name: "broken", tells: true, setup: func(*flag.FlagSet) func(context.Context, *call, []string) (int, error) {
		return func(context.Context, *call, []string) (int, error) {
			var none []int
			return none[4], nil
		}
	}}
	var out, errout bytes.Buffer
	status := broken.call(context.Background(), []string{"-json", "a b"}, Env{Stdout: &out, Stderr: &errout})
	assert.Equal(t, exitUnreadable, status)
	assert.Contains(t, errout.String(), "a fault of the program itself: runtime error: index out of range")
	assert.Contains(t, errout.String(), "fitcheck broken -json 'a b'", "it can be called again")
	assert.NotContains(t, errout.String()+out.String(), "goroutine")
	assert.Contains(t, out.String(), `"code": "fault"`)

	errout.Reset()
	broken.call(context.Background(), []string{"-log", "debug"}, Env{Stdout: &out, Stderr: &errout})
	assert.Contains(t, errout.String(), "errors_test.go", "who asks for the log gets the stack")
}

// One package of several that is refused does not silence the others, and is told.
func TestOneOfSeveralIsRefused(t *testing.T) {
	kit := kitDir(t)
	status, _, errout := run("match", "-kit", kit, "-device", "cabinet-07", "gone.zip", "qm-tram-8.4.2.zip")
	assert.Equal(t, exitFits, status, "the best counts")
	assert.Contains(t, errout, "refused, and the others are judged: ")
	assert.Contains(t, errout, "gone.zip")
	status, out, errout := run("match", "-kit", kit, "-device", "cabinet-07", "-max-items", "12", "qm-core-6.4.1.zip", "qm-tram-8.4.2.zip", "-json")
	assert.Equal(t, exitMisfit, status)
	assert.Contains(t, errout, "-max-items raises the bound")
	var doc struct {
		Results []struct{ Package string }
		Refused []struct{ Package, Because string }
	}
	require.NoError(t, json.Unmarshal([]byte(out), &doc))
	require.Len(t, doc.Results, 1)
	require.Len(t, doc.Refused, 1)
	assert.Contains(t, doc.Refused[0].Package, "qm-tram-8.4.2.zip")
	assert.Contains(t, doc.Refused[0].Because, "-max-items raises the bound")
	status, _, _ = run("match", "-kit", kit, "-device", "cabinet-07", "gone.zip", "gone-too.zip")
	assert.Equal(t, exitUnreadable, status, "where nothing could be read, nothing is judged")
}

// Commands that are offered work as they are printed, from the folder that one is in.
func TestOfferedCommandsNameTheKit(t *testing.T) {
	kit := kitDir(t)
	_, out, _ := run("path", "-kit", kit, "-device", "depot-core", "-to", "6.4.1")
	offered := regexp.MustCompile(`fitcheck \w+ `).FindAllStringIndex(out, -1)
	assert.GreaterOrEqual(t, len(offered), 3)
	for _, at := range offered {
		assert.True(t, strings.HasPrefix(out[at[1]:], "-kit "+shell.Quote(kit)+" "), out[at[0]:])
	}
	t.Chdir(kit)
	_, out, _ = run("path", "-device", "depot-core", "-to", "6.4.1")
	assert.NotContains(t, out, "-kit", "nobody named one")
}

// Every reason can be looked up; of a check, all of its reasons.
func TestExplain(t *testing.T) {
	for _, k := range check.Codes() {
		status, out, _ := run("explain", k.Name)
		require.Equal(t, exitFits, status, k.Name)
		assert.Contains(t, out, k.Name)
		assert.Contains(t, strings.Join(strings.Fields(out), " "), strings.Join(strings.Fields(k.Doc), " "))
	}
	status, out, _ := run("explain", "revision")
	assert.Equal(t, exitFits, status)
	for _, k := range check.Find("revision").Codes {
		assert.Contains(t, out, k.Name)
	}
	status, out, _ = run("explain", "revision.excluded", "-json")
	assert.Equal(t, exitFits, status)
	assert.Contains(t, out, `"document": "explain"`)
	assert.Contains(t, out, `"revision.excluded"`)
	_, out, _ = run("explain")
	for _, c := range check.All() {
		assert.Contains(t, out, c.Name+".")
	}
}
