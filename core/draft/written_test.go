package draft

import (
	"flag"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/notes"
)

var update = flag.Bool("update", false, "write testdata/drafts")

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
			file := filepath.Join("testdata", "drafts", name+".yaml")
			if *update {
				require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
				require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
				return
			}
			want, err := os.ReadFile(file)
			require.NoError(t, err)
			assert.Equal(t, string(want), text, "if it is meant so: go test ./core/draft -run TestDraftsAsWritten -update")
		})
	}
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
