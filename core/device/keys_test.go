package device

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A key names one value of a device file; one that is half a name names none.
func TestKeys(t *testing.T) {
	for _, good := range []string{"model", "boards", "installed.main", "companions.radiod", "slots.A.main", "slots.A.active", "slots.A.next", "files.a.b.img.version", "files.x.next", "job.state", "entitled.until"} {
		assert.NoError(t, CheckKey(good), good)
	}
	for _, bad := range []string{"", "modell", "model.x", "installed", "installed.", "companions.", "slots", "slots.A", "slots..main", "slots.A.", "files", "files.version", "files.x.colour", "job", "job.mood", ".model"} {
		assert.Error(t, CheckKey(bad), bad)
	}
}

// What an earlier run wrote at the top of a file goes with the next one; what a person wrote there stays.
func TestRemarksOfAnEarlierRunGo(t *testing.T) {
	r := &Reading{File: "b.txt"}
	r.add("", "model", "QM-8T", lineOf("b.txt", 1))
	v := r.add("", "revision", "A2\u0085x\x07", lineOf("b\u2028.txt", 2))
	v.Guess = true
	text, err := Merge([]*Reading{r}, nil, nil, nobody{}).Write("d", []byte("# CONTRADICTION, revision is left out: a says A1\n# the one by the door\n# GUESS, confirm or correct it: model is QM-8T (a:1)\nkind: device\nname: d\nmodel: QM-8T\n"))
	require.NoError(t, err)
	top, _, _ := strings.Cut(string(text), "kind: device")
	assert.Equal(t, "# GUESS, confirm or correct it: revision is A2 x  (b .txt:2)\n# the one by the door\n", top)
}

// nobody knows no model.
type nobody struct{}

func (nobody) Model(string) (string, bool)  { return "", false }
func (nobody) Revision(string, string) bool { return false }
func (nobody) Owners(string) []Owner        { return nil }
