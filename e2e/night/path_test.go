package night

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/e2e/program"
)

type pathDoc struct {
	Found     bool
	From, To  string
	Unsettled []string
	Resets    int
	Hops      []struct {
		Release, Package, From, To, Because string
		BootOnly                            bool `json:"boot_only"`
		Members                             []string
		Sources                             []struct{ Source, Where string }
	}
	Blocked []struct {
		Release, Because string
		Sources          []struct{ Where string }
	}
	Back *struct {
		Found bool
		By    string
	}
	Alternatives []json.RawMessage
}

func askPath(t *testing.T, dir string, args ...string) (pathDoc, program.Ran) {
	r := program.Call(t, dir, append([]string{"path", "-json"}, args...)...)
	var doc pathDoc
	if r.Status != 2 && r.Status != 4 {
		require.NoError(t, json.Unmarshal(program.Result(t, r.Out), &doc), r.Out)
	}
	return doc, r
}

func TestPathOfTheStack(t *testing.T) {
	t.Parallel()
	dir := program.WriteKit(t)
	doc, r := askPath(t, dir, "-device", "depot-core", "-to", "6.4.1")
	require.Equal(t, 0, r.Status, r.Errout)
	require.Len(t, doc.Hops, 4)
	for i, want := range []struct {
		release, pkg string
		boot         bool
		members      int
	}{{"6.1.2", "qm-core-6.1.2.zip", false, 1}, {"6.4.1", "qm-core-6.4.1.zip", true, 3}, {"6.3.0", "qm-core-6.3.0.zip", false, 3}, {"6.4.1", "qm-core-6.4.1.zip", false, 3}} {
		h := doc.Hops[i]
		assert.Equal(t, want.release, h.Release)
		assert.Equal(t, want.pkg, h.Package)
		assert.Equal(t, want.boot, h.BootOnly)
		assert.Len(t, h.Members, want.members)
		assert.NotEmpty(t, h.Because)
		require.NotEmpty(t, h.Sources)
		for _, s := range h.Sources {
			assert.NotEmpty(t, s.Where)
		}
	}
	assert.Contains(t, doc.Hops[2].Because, "6.3.0 converts the settings store")
	require.NotNil(t, doc.Back)
	assert.Equal(t, "hops", doc.Back.By)

	// match says the same of the last package, and where the way is.
	m := program.Call(t, dir, "match", "-device", "depot-core", "packages/qm-core-6.4.1.zip", "-others=false")
	assert.Equal(t, 1, m.Status)
	assert.Contains(t, m.Out, "go by way of the boot loader of 6.4.1, then 6.3.0, then 6.4.1")

	// The package is known by what it holds, whatever its name; and when it goes,
	// the hop is to be downloaded.
	require.NoError(t, os.Rename(filepath.Join(dir, "packages/qm-core-6.3.0.zip"), filepath.Join(dir, "packages/download(3).zip")))
	doc, _ = askPath(t, dir, "-device", "depot-core", "-to", "6.4.1")
	assert.Equal(t, "download(3).zip", doc.Hops[2].Package)
	require.NoError(t, os.Remove(filepath.Join(dir, "packages/download(3).zip")))
	doc, r = askPath(t, dir, "-device", "depot-core", "-to", "6.4.1")
	assert.Equal(t, 0, r.Status)
	assert.Equal(t, "to download", doc.Hops[2].Package)
	doc, r = askPath(t, dir, "-device", "depot-core", "-to", "6.4.1", "-on-hand")
	assert.Equal(t, 1, r.Status)
	var why []string
	for _, b := range doc.Blocked {
		why = append(why, b.Release+": "+b.Because)
		assert.NotEmpty(t, b.Sources)
	}
	assert.Contains(t, strings.Join(why, "\n"), "6.3.0: no package at hand carries it")
}

func TestPathAnswers(t *testing.T) {
	t.Parallel()
	dir := program.WriteKit(t)
	for name, c := range map[string]struct {
		args   []string
		status int
		out    string
	}{
		"a target that does not exist": {[]string{"-device", "cabinet-07", "-to", "8.4.3"}, 3, "lists no release 8.4.3 of the family tram-l2; the nearest are 8.4.2, 8.4.1"},
		"written compactly":            {[]string{"-device", "radio-controller", "-to", "2.4.1"}, 0, "in 1 hop"},
		"withdrawn":                    {[]string{"-device", "cabinet-07", "-to", "8.4.1"}, 1, "it was withdrawn: uplinks flap after a cold start"},
		"already there":                {[]string{"-device", "cabinet-07", "-to", "8.2.1"}, 0, "runs 8.2.1 already"},
		"several ways":                 {[]string{"-device", "cabinet-07", "-to", "latest", "-all", "2"}, 0, "2 really different ways were asked for, and there is 1"},
		"no device":                    {[]string{"-to", "latest"}, 2, ""},
		"no target":                    {[]string{"-device", "cabinet-07"}, 2, ""},
		"a preference there is not":    {[]string{"-device", "cabinet-07", "-to", "latest", "-prefer", "speed"}, 2, ""},
		"too many states":              {[]string{"-device", "depot-core", "-to", "6.4.1", "-max-states", "2"}, 4, ""},
	} {
		r := program.Call(t, dir, append([]string{"path"}, c.args...)...)
		assert.Equal(t, c.status, r.Status, "%s: %s%s", name, r.Out, r.Errout)
		assert.Contains(t, r.Text(), c.out, name)
	}
	// What is not known decides, and it is said what.
	file := filepath.Join(dir, "devices/depot-core.yaml")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, []byte(strings.Replace(string(text), "companions: {controller: 5.1.0}\n", "", 1)), 0o644))
	doc, r := askPath(t, dir, "-device", "depot-core", "-to", "6.4.1")
	assert.Equal(t, 3, r.Status)
	require.NotEmpty(t, doc.Unsettled)
	assert.Contains(t, doc.Unsettled[0], "it needs controller >=5.1, and what there is is not known")
}

func TestPathIsDrawn(t *testing.T) {
	t.Parallel()
	dir := program.WriteKit(t)
	r := program.Call(t, dir, "path", "-device", "platform-9", "-to", "23.4.2", "-family", "lantern", "-report", "way.html")
	require.Equal(t, 0, r.Status, r.Errout)
	page, err := os.ReadFile(filepath.Join(dir, "way.html"))
	require.NoError(t, err)
	for _, want := range []string{"<svg", "lantern-initial", "no rule allows the move from family stock to lantern", "the converter image lays the flash out anew"} {
		assert.Contains(t, string(page), want)
	}
	assert.NotContains(t, string(page), "<script")
	assert.Equal(t, 4, program.Call(t, dir, "path", "-device", "platform-9", "-to", "3.4.0", "-report", "way.html").Status, "a file that is there is kept")
	r = program.Call(t, dir, "path", "-device", "platform-9", "-to", "23.4.2", "-family", "lantern", "-report", "way.svg")
	require.Equal(t, 0, r.Status, r.Errout)
	drawing, err := os.ReadFile(filepath.Join(dir, "way.svg"))
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(string(drawing), "<svg xmlns"))
}

func TestNotesOfAPackage(t *testing.T) {
	t.Parallel()
	dir := program.WriteKit(t)
	r := program.Call(t, dir, "notes", "packages/qm-core-6.4.1.zip", "-about", "FLAP", "-all")
	require.Equal(t, 0, r.Status, r.Errout)
	for _, want := range []string{"line 5  The boot loader must be 2.0.0 or later.", "the rulebook says so, too: needs boot >=2.0.0 (rulebooks/quillmere-core.yaml:", "- {storage_free: 64MiB}", "Uplinks no longer flap"} {
		assert.Contains(t, r.Out, want)
	}
	r = program.Call(t, dir, "notes", "packages/vp12-5.1.4.bin")
	assert.Equal(t, 4, r.Status)
	assert.Contains(t, r.Errout, "no release notes are found in it")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "n.pdf"), []byte("%PDF-1.4\n1 0 obj\n"), 0o644))
	r = program.Call(t, dir, "notes", "n.pdf")
	assert.Equal(t, 4, r.Status)
	assert.Contains(t, r.Errout, "n.pdf: the PDF cannot be read")
}

// pdfFile is a PDF with one page and one line; its root is the given object.
func pdfFile(line, pages string) []byte {
	content := "BT /F1 12 Tf 50 750 Td (" + line + ") Tj ET"
	var b strings.Builder
	var at []int
	b.WriteString("%PDF-1.4\n")
	for i, body := range []string{"<< /Type /Catalog /Pages 2 0 R >>", pages, "<< /Type /Font /Subtype /Type1 /BaseFont /Helvetica /Encoding /WinAnsiEncoding >>",
		"<< /Type /Page /Parent 2 0 R /MediaBox [0 0 600 800] /Resources << /Font << /F1 3 0 R >> >> /Contents 5 0 R >>",
		fmt.Sprintf("<< /Length %d >>\nstream\n%s\nendstream", len(content), content)} {
		at = append(at, b.Len())
		fmt.Fprintf(&b, "%d 0 obj\n%s\nendobj\n", i+1, body)
	}
	xref := b.Len()
	fmt.Fprintf(&b, "xref\n0 %d\n0000000000 65535 f \n", len(at)+1)
	for _, o := range at {
		fmt.Fprintf(&b, "%010d 00000 n \n", o)
	}
	fmt.Fprintf(&b, "trailer << /Size %d /Root 1 0 R >>\nstartxref\n%d\n%%%%EOF\n", len(at)+1, xref)
	return []byte(b.String())
}

// A PDF is read in a process of its own: one that leads its reader round in
// circles is given up, and hangs nothing.
func TestNotesOfAPDF(t *testing.T) {
	t.Parallel()
	dir := program.WriteKit(t)
	program.Write(t, dir, "good.pdf", pdfFile("Core release 6.4.1: the boot loader must be 2.0.0 or later.", "<< /Type /Pages /Kids [4 0 R] /Count 1 >>"))
	r := program.Call(t, dir, "notes", "good.pdf")
	require.Equal(t, 0, r.Status, r.Errout)
	assert.Contains(t, r.Out, "page 1, line 1")
	assert.Contains(t, r.Out, "the rulebook says so, too: needs boot >=2.0.0")
	program.Write(t, dir, "circle.pdf", pdfFile("x", "<< /Type /Pages /Kids [2 0 R] /Count 3 /Parent 2 0 R >>"))
	r = program.Call(t, dir, "notes", "circle.pdf")
	assert.Equal(t, 4, r.Status)
	assert.Contains(t, r.Errout, "circle.pdf: reading the PDF takes more than 4 s of the processor's time")
}
