package present

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/archive"
	"fitcheck/core/unpack"
	"fitcheck/core/yamlfile"
)

// back writes a document and reads it again, as whoever takes it would.
func back(t *testing.T, doc any, into any) string {
	t.Helper()
	var b bytes.Buffer
	require.NoError(t, WriteJSON(&b, doc))
	require.NoError(t, json.Unmarshal(b.Bytes(), into), b.String())
	return b.String()
}

func TestUnpacked(t *testing.T) {
	sum := strings.Repeat("ab", 32)
	u := Unpacked{"p.zip", "out", &unpack.Result{Files: []unpack.File{{Path: "a.img", Address: "p.zip::a.img", Size: 2048, SHA256: sum}, {Path: "b\x1b.img", Address: "p.zip::b\x1b.img", Size: 1, SHA256: sum, There: true}},
		Problems: []archive.Problem{{Item: "p.zip::../up", Class: archive.Unsafe, What: "its name climbs", Advice: "leave it"}}}}
	out := shown(UnpackedPage(u), 100)
	inOrder(t, out, "UNPACKED IN PART", "p.zip into out: 2 files, 2.0 KiB, 1 of them there already", "a.img", sum[:20], `b\u001b.img`, "What was left out", "climbs", "leave it")
	assert.NotContains(t, out, "\x1b")

	var doc struct {
		Into  string
		Files []struct {
			Path, Item, Sha256 string
			Size               int64
			There              bool `json:"there_already"`
		}
		Problems []struct{ Class, Item, What, Advice string }
	}
	back(t, UnpackedJSON(u), &doc)
	require.Len(t, doc.Files, 2)
	assert.Equal(t, "p.zip::a.img", doc.Files[0].Item)
	assert.True(t, doc.Files[1].There)
	assert.Equal(t, "unsafe", doc.Problems[0].Class)

	u.Problems = nil
	assert.True(t, strings.HasPrefix(shown(UnpackedPage(u), 0), "UNPACKED  p.zip"))
}

func TestChecked(t *testing.T) {
	files := []CheckedFile{{Path: "a.yaml", Kind: "rulebook"}, {Path: "b.yaml", Kind: "layout", Errors: yamlfile.Errors{
		{File: "b.yaml", Spot: yamlfile.Spot{Line: 3, Column: 7}, Message: `there is no key "feilds" here`, Advice: `did you mean "fields"?`}}}}
	inOrder(t, shown(CheckedPage(files), 80), "1 ERROR", "b.yaml, a layout", `! b.yaml:3:7: there is no key "feilds" here`, `-> did you mean "fields"?`, "SOUND  a.yaml, a rulebook")
	var doc struct {
		Files []struct {
			File, Kind string
			Sound      bool
			Errors     []struct {
				Line, Column    int
				Message, Advice string
			}
		}
	}
	text := back(t, CheckedJSON(files), &doc)
	assert.True(t, doc.Files[0].Sound)
	assert.False(t, doc.Files[1].Sound)
	assert.Equal(t, 7, doc.Files[1].Errors[0].Column)
	assert.NotContains(t, text, "null")
}

func TestDemoSummary(t *testing.T) {
	cases := []DemoCase{{Case: "clean fit", Expected: "fits", Got: "fits", OK: true}, {Case: "cut short", Expected: "misfit", Got: "fits"}}
	out := shown(DemoSummary(cases, ""), 80)
	inOrder(t, out, "as told", "clean fit: fits", "OTHERWISE", "cut short: expected misfit, got fits", "fitcheck demo DIR")
	assert.Contains(t, shown(DemoSummary(cases, "/tmp/kit"), 80), "The kit is in /tmp/kit")
	inOrder(t, shown(ScenePage(2, 12, "What is in the download?", "fitcheck survey p.zip"), 80), strings.Repeat("=", 80), "2 of 12. What is in the download?", "$ fitcheck survey p.zip")
	var doc struct{ Cases []DemoCase }
	back(t, DemoJSON(cases), &doc)
	assert.Equal(t, cases, doc.Cases)
}

func TestHeaderJSON(t *testing.T) {
	data := uimage("QM-8T 8.4.2", "payload")
	var doc struct {
		File   string
		Size   int64
		Image  struct{ Format, Arch, OS, Type, Title string }
		Fields []struct {
			Name, Raw, Value, Meaning string
			Offset, Size              int64
		}
		Problems []string
	}
	back(t, HeaderJSON(header(t, data)), &doc)
	assert.EqualValues(t, len(data), doc.Size)
	assert.Equal(t, struct{ Format, Arch, OS, Type, Title string }{"uimage", "arm", "linux", "kernel", "QM-8T 8.4.2"}, doc.Image)
	assert.Equal(t, "27051956", doc.Fields[0].Raw)
	for _, f := range doc.Fields {
		assert.EqualValues(t, f.Size*2, len(f.Raw), f.Name)
	}
	assert.Empty(t, doc.Problems)
	var version struct {
		Version string
		Built   string `json:"built_with"`
	}
	back(t, VersionJSON("1.2.3", "go1", Commit{Revision: "3ee1956ab12c34", Date: "2026-11-27T10:00:00Z"}), &version)
	assert.Equal(t, "1.2.3", version.Version)
}
