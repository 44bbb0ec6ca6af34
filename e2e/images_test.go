package e2e

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/e2e/program"
)

// at follows keys and indices into a JSON document.
func at(t *testing.T, doc any, path ...any) any {
	t.Helper()
	for _, p := range path {
		switch k := p.(type) {
		case string:
			m, ok := doc.(map[string]any)
			require.True(t, ok, "%v in %v", p, doc)
			doc = m[k]
		case int:
			l, ok := doc.([]any)
			require.True(t, ok && k < len(l), "%v in %v", p, doc)
			doc = l[k]
		}
	}
	return doc
}

func TestLayoutsTakePart(t *testing.T) {
	t.Parallel()
	kit := program.WriteKit(t)
	const item = "packages/qm-tram-8.4.2.zip::qm-tram-8.4.2/poe/qm-poe-a.qmi"
	doc := program.Document(t, program.Call(t, kit, "header", "-json", item))
	assert.Equal(t, "layout:qmi", at(t, doc, "image", "format"))
	assert.Equal(t, []any{"A1", "A2"}, at(t, doc, "image", "revisions"))
	assert.Equal(t, []any{"quillmere,qm8t-a"}, at(t, doc, "image", "boards"))
	assert.Equal(t, true, at(t, doc, "image", "integrity", 1, "ok"))

	r := program.Call(t, kit, "header", "-hex", item)
	assert.Equal(t, 0, r.Status)
	assert.Contains(t, r.Out, "51 4d 49 31")
	assert.Contains(t, r.Out, "^^^^^ board")

	// Without its layout the same file is of no known format, and unsettled.
	files := program.Unzip(t, kit, "qm-tram-8.4.2.zip")
	bare := program.Write(t, kit, "in/poe.qmi", files["qm-tram-8.4.2/poe/qm-poe-a.qmi"])
	assert.Equal(t, 0, program.Call(t, kit, "survey", bare).Status)
	other := t.TempDir()
	assert.Equal(t, 1, program.Call(t, other, "survey", bare).Status)

	// A changed byte of it is found by the layout's own checksum.
	name := "qm-tram-8.4.2/poe/qm-poe-a.qmi"
	files[name] = bytes.Clone(files[name])
	files[name][9] ^= 0x10 // revisions: now it claims to be for B1, too
	delete(files, "qm-tram-8.4.2/qm.sha256")
	program.Write(t, kit, "packages/qm-tram-8.4.2.zip", program.ZipOf(t, files))
	r = program.Call(t, kit, "match", "-device", "cabinet-07", "qm-tram-8.4.2.zip")
	assert.Equal(t, 1, r.Status)
	assert.Contains(t, r.Out, "header crc32 does not match")

	// A layout that cannot be read is a fault of the kit.
	broken := strings.Replace(readFile(t, kit, "layouts/qmi.yaml"), "over: payload, equals: payload_crc", "over: payload, equals: payload_sum", 1)
	program.Write(t, kit, "layouts/qmi.yaml", []byte(broken))
	r = program.Call(t, kit, "match", "-device", "cabinet-07", "qm-tram-8.4.2.zip")
	assert.Equal(t, 4, r.Status)
	assert.Contains(t, r.Errout, "layouts/qmi.yaml:17")
	r = program.Call(t, kit, "rulebook", "check", "layouts/qmi.yaml", "rulebooks/quillmere.yaml", "devices/cabinet-07.yaml")
	assert.Equal(t, 1, r.Status)
	assert.Contains(t, r.Out, "payload_sum")
	assert.Contains(t, r.Out, "SOUND  rulebooks/quillmere.yaml, a rulebook")
	require.NoError(t, os.Remove(filepath.Join(kit, "layouts/qmi.yaml")))
	r = program.Call(t, kit, "survey", "qm-tram-8.4.2.zip")
	assert.Equal(t, 3, r.Status, "nobody says what the package should be")
	assert.Contains(t, r.Out, "quillmere.yaml:8")
	r = program.Call(t, kit, "match", "-device", "cabinet-07", "qm-tram-8.4.2.zip")
	assert.Equal(t, 4, r.Status)
	assert.Contains(t, r.Errout, "quillmere.yaml:8")
	r = program.Call(t, kit, "match", "-device", "tunnel-3", "vr310-4.2.0.itb")
	assert.NotEqual(t, 4, r.Status, "another rulebook knows it")
	assert.Contains(t, r.Errout, "quillmere.yaml has a fault")
}

func readFile(t *testing.T, dir, name string) string {
	b, err := os.ReadFile(filepath.Join(dir, name))
	require.NoError(t, err)
	return string(b)
}

func TestFITConfigurationsAreCandidates(t *testing.T) {
	t.Parallel()
	kit := program.WriteKit(t)
	doc := program.Document(t, program.Call(t, kit, "survey", "-json", "vr310-4.2.0.itb"))
	image := at(t, doc, "items", 0, "image")
	assert.Equal(t, "fit", at(t, image, "format"))
	assert.Equal(t, "arm64", at(t, image, "configurations", 1, "arch", 0))
	assert.Equal(t, "gzip", at(t, image, "parts", 0, "packed"))
	assert.Equal(t, "dtb", at(t, image, "parts", 2, "format"))
	doc = program.One(t, program.Call(t, kit, "match", "-json", "-device", "tunnel-3", "vr310-4.2.0.itb"))
	assert.Equal(t, "fits", doc["verdict"])
	assert.Equal(t, "v2", at(t, doc, "members", 0, "chosen", 0, "configuration"))

	// A board for which no configuration is there: a misfit, although the
	// architecture of one and the model suit.
	device := strings.NewReplacer("revision: v2", "revision: v3", "vr310-v2", "vr310-v3").Replace(readFile(t, kit, "devices/tunnel-3.yaml"))
	program.Write(t, kit, "devices/tunnel-9.yaml", []byte(device))
	rules := strings.Replace(readFile(t, kit, "rulebooks/velloway.yaml"), "      v2: {", "      v3: {arch: arm64, boards: [\"velloway,vr310-v3\"], slot: 8MiB}\n      v2: {", 1)
	program.Write(t, kit, "rulebooks/velloway.yaml", []byte(rules))
	doc = program.One(t, program.Call(t, kit, "match", "-json", "-device", "tunnel-9", "vr310-4.2.0.itb"))
	assert.Equal(t, "misfit", doc["verdict"])
	assert.Contains(t, program.Deciding(doc), "revision")

	// And the parts have headers of their own.
	r := program.Call(t, kit, "header", "packages/vr310-4.2.0.itb::fdt-v2")
	assert.Equal(t, 0, r.Status)
	assert.Contains(t, r.Text(), "velloway,vr310-v2")
}

func TestDeepSurvey(t *testing.T) {
	t.Parallel()
	kit := program.WriteKit(t)
	doc := program.Document(t, program.Call(t, kit, "survey", "-deep", "-json", "flash-07.bin"))
	regions := at(t, doc, "items", 0, "map").([]any)
	var kinds []string
	last := 0.0
	for _, r := range regions {
		assert.Equal(t, last, at(t, r, "from"), "no gap")
		last = at(t, r, "to").(float64)
		if k, ok := at(t, r, "kind").(string); ok {
			kinds = append(kinds, k)
		}
	}
	assert.Equal(t, []string{"uimage", "uimage", "gzip", "dtb"}, kinds)
	assert.Equal(t, at(t, doc, "package", "size"), last)
	r := program.Call(t, kit, "survey", "-deep", "flash-07.bin")
	assert.Contains(t, r.Out, "[####")
	assert.Contains(t, r.Out, "erased flash (FF)")
}
