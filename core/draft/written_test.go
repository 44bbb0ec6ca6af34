package draft

import (
	"archive/zip"
	"bytes"
	"context"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"fitcheck/core/archive"
	"fitcheck/core/notes"
	"fitcheck/core/survey"
	"fitcheck/demo"
	"fitcheck/internal/pagetest"
)

// TestDraftsAsWritten holds drafts, word for word, against those in testdata/drafts: a change of what is drafted is
// seen there.
func TestDraftsAsWritten(t *testing.T) {
	drafts := map[string]func(t *testing.T) Input{}
	for form, style := range map[string]string{"xml": "build", "ini": "letters", "csv": "date", "lines": "brackets", "json": "plain", "yaml": "words", "names": "run"} {
		drafts[form+"-"+style] = func(t *testing.T) Input {
			in, _ := invent(rand.New(rand.NewPCG(7, uint64(len(form)*len(style)))), form, style).input(t, t.TempDir())
			return in
		}
	}
	for name, packages := range map[string][]string{
		"switches":   {"qm-tram-8.4.2.zip", "qm-tram-8.4.1.zip"},
		"gateways":   {"vg20-5.1.0.zip", "vg20-5.1.0-virtual.zip"},
		"radio":      {"vr310-4.2.0.itb"},
		"pair":       {"vc40-loader-2.4.1.bin", "vc40-system-2.4.1.bin"},
		"core":       {"qm-core-6.1.2.zip", "qm-core-6.3.0.zip", "qm-core-6.4.1.zip"},
		"bare":       {"vr510-lantern-initial-23.4.0.bin", "vr510-lantern-23.4.2.bin", "vr510-3.4.0.bin"},
		"recovery":   {"vr510-recovery-3.4.0.zip"},
		"everything": {"depot-2026-11.tar.gz"},
	} {
		drafts[name] = func(t *testing.T) Input { return Input{Packages: surveyed(t, nil, packages...)} }
	}
	for name, manifest := range outerFields {
		drafts[name] = func(t *testing.T) Input {
			return Input{Packages: []*survey.Survey{zipped(t, "kx-8.4.2.zip", manifest.name, manifest.text)}}
		}
	}
	for name, files := range map[string][3]string{
		"models":      {"kx5-8.4.2.zip", "kx7-8.4.2.zip", "kx7-8.4.1.zip"},
		"other-names": {"kx5-8.4.2.zip", "image-kx-seven-8.4.2.zip", "kx5-8.4.1.zip"},
	} {
		drafts[name] = func(t *testing.T) Input {
			var in Input
			for i, file := range files {
				model := []string{"KX-5", "KX-7", "KX-5"}[i]
				if strings.HasPrefix(file, "kx7") {
					model = "KX-7"
				}
				version := "8.4.2"
				if i == 2 {
					version = "8.4.1"
				}
				in.Packages = append(in.Packages, zipped(t, file, "manifest.json", strings.NewReplacer("MODEL", model, "VERSION", version).Replace(
					`{"version": "VERSION", "model": "MODEL", "images": [{"path": "kx/main.img", "sha256": "SUM-1"}, {"path": "kx/loader.bin", "version": "1.2.0", "sha256": "SUM-2"}]}`)))
			}
			return in
		}
	}
	drafts["sentences"] = func(t *testing.T) Input {
		doc, err := notes.Read("notes.txt", []byte(sentences), nil)
		require.NoError(t, err)
		return Input{Packages: surveyed(t, nil, "qm-core-6.3.0.zip", "qm-core-6.4.1.zip"), Notes: []Note{{"notes.txt", doc}},
			Captures: []Text{{"one.txt", []byte(capture)}}, Tables: []Text{{"moves.csv", []byte(moves)}}}
	}
	for name, input := range drafts {
		t.Run(name, func(t *testing.T) {
			d := New(input(t))
			text := d.YAML()
			for _, n := range d.Notes {
				text += "# note: " + n + "\n"
			}
			pagetest.Hold(t, filepath.Join("testdata", "drafts", name+".yaml"), text)
		})
	}
}

// zipped surveys a package of a manifest and two images.
func zipped(t *testing.T, name, manifest, text string) *survey.Survey {
	t.Helper()
	one, two := demo.UImage(5, 2, 2, "KX-5 8.4.2", []byte("the main image")), demo.UImage(17, 2, 5, "KX-5 loader 1.2.0", []byte("the loader"))
	file := filepath.Join(t.TempDir(), name)
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for _, f := range []struct{ name, data string }{{manifest, strings.NewReplacer("SUM-1", sha(one), "SUM-2", sha(two)).Replace(text)}, {"kx/main.img", string(one)}, {"kx/loader.bin", string(two)}} {
		part, err := w.Create(f.name)
		require.NoError(t, err)
		_, err = part.Write([]byte(f.data))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	require.NoError(t, os.WriteFile(file, b.Bytes(), 0o644))
	s, err := survey.Run(context.Background(), file, survey.Options{Limits: archive.DefaultLimits(), Texts: true})
	require.NoError(t, err)
	return s
}

// outerFields are manifests that say further out what holds for all of their records, or for some.
var outerFields = map[string]struct{ name, text string }{
	"json-outer": {"manifest.json", `{"release": {"version": "8.4.2", "family": "quay"}, "region": "EU",
 "images": [{"path": "kx/main.img", "part": "system", "sha256": "SUM-1"}, {"path": "kx/loader.bin", "part": "loader", "version": "1.2.0", "sha256": "SUM-2"}]}`},
	"json-groups": {"manifest.json", `{"version": "8.4.2", "targets": [{"model": "KX-5", "boards": ["a", "b"], "images": [{"file": "kx/main.img", "sha256": "SUM-1"}]},
 {"model": "KX-7", "boards": ["c"], "images": [{"file": "kx/loader.bin", "sha256": "SUM-2", "component": "boot"}]}]}`},
	"xml-outer": {"contents.xml", `<package version="8.4.2"><product model="KX-5"><revision>A1</revision><image name="kx/main.img" sha256="SUM-1"/><image name="kx/loader.bin" sha256="SUM-2"/></product></package>`},
	"xml-groups": {"contents.xml", `<package><release>8.4.2</release><product model="KX-5"><file><path>kx/main.img</path><sha256>SUM-1</sha256></file></product>
<product model="KX-7"><file><path>kx/loader.bin</path><sha256>SUM-2</sha256></file></product></package>`},
	"yaml-outer": {"release.yaml", "release: 8.4.2\nmodels: [KX-5, KX-7]\nfiles:\n  - {file: kx/main.img, component: main, sha256: SUM-1}\n  - {file: kx/loader.bin, component: boot, sha256: SUM-2}\n"},
	"yaml-keys":  {"release.yaml", "version: 8.4.2\nimages:\n  main: {file: kx/main.img, sha256: SUM-1}\n  loader: {file: kx/loader.bin, sha256: SUM-2}\n"},
	"ini-outer":  {"manifest.ini", "[release]\nversion = 8.4.2\nmodel = KX-5\n\n[main]\nfile = kx/main.img\nsha256 = SUM-1\n\n[loader]\nfile = kx/loader.bin\nsha256 = SUM-2\n"},
	"json-three": {"manifest.json", `{"version": "8.4.2", "images": [{"file": "kx/main.img", "sha256": "SUM-1"}, {"file": "kx/gone.img"}, {"file": "kx/gone-too.img"}]}`},
	"json-two":   {"manifest.json", `{"version": "8.4.2", "images": [{"file": "kx/main.img", "sha256": "SUM-1"}, {"file": "kx/gone.img"}]}`},
	"csv-plain":  {"manifest.csv", "file,model,version,sha256\nkx/main.img,KX-5,8.4.2,SUM-1\nkx/loader.bin,KX-5,1.2.0,SUM-2\n"},
}

const sentences = `Release notes of 6.4.1, published 2026-09-14

Upgrading
Devices below 6.3.0 must first go to 6.3.0. The boot loader must be at least 1.9.3 before 6.3.0 is installed.
Downgrading from 6.4 or later to a release before 6.3 resets the configuration.
6.2.0 was withdrawn on 3 March 2026: it loses the settings of ports.
It is not possible to go back from 6.4.1 to 6.1.2.
The controller must run 5.1 or later.
The upgrade takes about 12 minutes, of which 4 without service.

Supported models
- QM-48C (revisions A1, A2)
- QM-48F (revision B1)
`

const capture = `core-1# show version
Model: QM-48C
Hardware revision: A1
Serial number: 0601-117
Boot loader: 1.9.3
Software version: 6.3.0
Slot 1  6.3.0  *
Slot 2  6.1.2
core-1#
`

const moves = `From,To,Allowed,Remark
6.1.x,6.4.1,no,by way of 6.3.0
6.3.0,6.4.1,yes,
6.4.1,6.1.2,no,settings are lost
`
