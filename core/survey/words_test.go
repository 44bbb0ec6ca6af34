package survey

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/fact"
	"fitcheck/core/rulebook"
)

func TestArticle(t *testing.T) {
	for noun, want := range map[string]string{"ELF file": "an ELF file", "XML document": "an XML document", "HTML page": "an HTML page", "JSON document": "a JSON document", "UBI image": "a UBI image",
		"ISO 9660 image": "an ISO 9660 image", "text": "text", "text of a mail": "text of a mail", "PEM text": "a PEM text", "OpenPGP key": "an OpenPGP key",
		"gzip stream": "a gzip stream"} {
		assert.Equal(t, want, article(noun), noun)
	}
}

// A version that a name writes without points, or leaves off, stands for the known releases that it may be.
func TestShortVersionsOfNames(t *testing.T) {
	text := strings.Replace(rules, "order: [a, b]}", "order: [a, b], compact: true}", 1) + "releases:\n  - {version: '8.4'}\n  - {version: '8.5'}\n  - {version: '12.1'}\n  - {version: '1.21'}\n"
	rb, err := rulebook.Read("q.yaml", []byte(text))
	require.NoError(t, err)
	for name, want := range map[string]struct {
		version, note string
		open          bool
	}{
		"qm-8.4.zip": {"8.4", "", false},
		"qm-84.zip":  {"8.4", `the name's "84" stands for the known release 8.4`, false},
		"qm-121.zip": {"12.1|1.21", `the name's "121" could stand for 12.1 or 1.21`, true},
		"qm-99.zip":  {"99", "", false},
	} {
		s := survey(t, Options{Rulebooks: []*rulebook.Rulebook{rb}}, file{name, zipOf(file{"m.txt", "main a.img 8.4\n"}, file{"a.img", "main"})})
		all := s.NameClaim.About(fact.Version)
		if assert.Len(t, all, 1, name) {
			assert.Equal(t, want.version, all[0].Value, name)
			assert.Equal(t, want.open, all[0].Open, name)
		}
		if want.note == "" {
			assert.NotContains(t, strings.Join(s.Notes, "\n"), "the name's", name)
		} else {
			assert.Contains(t, s.Notes, want.note, name)
		}
	}
}
