package device

import (
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A pattern with line breaks in it sees as many lines as it asks for, and is cited by the first;
// several units stand in one capture, and pages in other languages are taken out.
func TestPatternsOverSeveralLines(t *testing.T) {
	rules := []CaptureRule{{
		Recognise: regexp.MustCompile(`^Tramline OS`),
		Member:    regexp.MustCompile(`^Unit (\d+)`),
		Read: []KeyPattern{
			{"model", regexp.MustCompile(`^Model:\n\s+(\S+)`)},
			{"installed.main", regexp.MustCompile(`^Running\s*:\s*(\S+)`)},
		},
		Each: []KeyPattern{{"attached", regexp.MustCompile(`^(?P<name>mast-\d+)\s+(?P<model>\S+)\s*\n\s+(?P<main>[\d.]+)$`)}},
	}}
	r, err := ReadSource("cab.txt", []byte(`Tramline OS
Unit 1
Model:

    QM-8T
Running: 8.2.1
-- Weiter --Unit 2
Model:
    QM-24T
<--- Más --->Running: 8.3.1
mast-1   VR-310-long-name
         4.1.0
mast-2   VR-320
         4.2.0
`), rules)
	require.NoError(t, err)
	assert.Equal(t, []string{
		"1/name=1 @cab.txt:2", "1/model=QM-8T @cab.txt:3", "1/installed.main=8.2.1 @cab.txt:6",
		"2/name=2 @cab.txt:7", "2/model=QM-24T @cab.txt:8", "2/installed.main=8.3.1 @cab.txt:10",
	}, said(r)[:6])
	var models []string
	for _, v := range r.Values {
		if v.Key == "attached" {
			models = append(models, v.Text)
		}
	}
	assert.Len(t, models, 2)
}

// A capture that no rulebook reads is guessed at in the languages of consoles.
func TestGuessesInOtherLanguages(t *testing.T) {
	for text, want := range map[string]string{
		"Gerätetyp ...... QM-8T\n":      "model=QM-8T @a:1 ?",
		"Numéro de série : 0417-221\n":  "serial=0417-221 @a:1 ?",
		"Versión de software = 8.2.1\n": "installed.main=8.2.1 @a:1 ?",
		"Chargeur d'amorçage : 3.1.4\n": "installed.boot=3.1.4 @a:1 ?",
		"序列号：0417-221\n":                "serial=0417-221 @a:1 ?",
		"--- 次へ ---シリアル番号 : 0417-221\n": "serial=0417-221 @a:1 ?",
	} {
		r, err := ReadSource("a", []byte(text), nil)
		require.NoError(t, err, text)
		assert.Equal(t, []string{want}, said(r), text)
	}
}
