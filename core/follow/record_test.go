package follow

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Where a plan was left is read from the events of its record: e is one of this plan, o of another plan of the device,
// s of another device.
func TestWhereAPlanWasLeft(t *testing.T) {
	f := follower(t, "", step("a", 1), step("b", 1), step("c", 1))
	line := func(word string) string {
		kind, rest, _ := strings.Cut(word, ":")
		l := map[string]string{"e": fmt.Sprintf(`"device":"d","plan":%q`, f.Plan()), "o": `"device":"d","plan":"other"`, "s": fmt.Sprintf(`"device":"another","plan":%q`, f.Plan()), "n": `"device":"d"`}[kind]
		event, numbers, _ := strings.Cut(rest, "/")
		switch event {
		case "go", "again", "stop", "wait":
			outcome := map[string]string{"go": GoOn, "again": Again, "stop": Stop, "wait": "wait"}[event]
			var n, try int
			_, err := fmt.Sscanf(numbers, "%d/%d", &n, &try)
			require.NoError(t, err, word)
			return fmt.Sprintf(`{%s,"event":"answered","outcome":%q,"step":%d,"try":%d}`, l, outcome, n, try)
		}
		return fmt.Sprintf(`{%s,"event":%q}`, l, event)
	}
	for _, c := range []struct {
		record        string
		number, tries int
		refused       bool
	}{
		{"", 0, 0, false},
		{"e:begun", 1, 0, false},
		{"e:begun e:go/1/0", 2, 0, false},
		{"e:begun e:go/1/0 e:again/2/1", 2, 1, false},
		{"e:begun e:go/1/0 e:again/2/1 e:again/2/2", 2, 2, false},
		{"e:begun e:go/1/0 e:stop/2/3", 2, 3, false},
		{"e:begun e:go/1/0 e:again/2/1 e:go/2/0", 3, 0, false},
		{"e:begun e:go/2/0 e:again/1/4", 3, 0, false},
		{"e:begun e:go/2/0 e:go/1/0", 3, 0, false},
		{"e:begun e:go/1/0 e:wait/2/5", 2, 0, false},
		{"e:begun e:go/1/0 e:again/2/0", 2, 0, false},
		{"e:begun e:go/1/0 e:left e:taken_up", 2, 0, false},
		{"e:begun e:go/2/0 e:ended", 0, 0, false},
		{"e:begun e:go/1/0 e:again/2/1 e:ended", 0, 0, false},
		{"e:begun e:go/2/0 e:ended e:begun", 1, 0, false},
		{"e:begun e:go/2/0 e:begun e:go/1/0", 2, 0, false},
		{"o:begun", 0, 0, true},
		{"o:begun o:ended", 0, 0, false},
		{"o:begun e:begun", 1, 0, false},
		{"e:begun o:begun", 1, 0, false},
		{"o:begun e:begun e:ended", 0, 0, false},
		{"e:begun e:ended o:begun", 0, 0, true},
		{"o:begun o:ended e:begun e:go/1/0", 2, 0, false},
		{"s:begun s:go/1/0", 0, 0, false},
		{"e:begun s:ended", 1, 0, false},
		{"n:begun", 0, 0, false},
		{"cut", 0, 0, false},
	} {
		var text strings.Builder
		for _, word := range strings.Fields(c.record) {
			if word == "cut" {
				text.WriteString(`{"device":"d","ev`)
				continue
			}
			text.WriteString(line(word) + "\n")
		}
		file := filepath.Join(t.TempDir(), "night.jsonl")
		require.NoError(t, os.WriteFile(file, []byte(text.String()), 0o644))
		r, number, tries, err := OpenRecord(file, f)
		if c.refused {
			assert.ErrorContains(t, err, "other steps", c.record)
			continue
		}
		require.NoError(t, err, c.record)
		assert.Equal(t, []int{c.number, c.tries}, []int{number, tries}, c.record)
		require.NoError(t, r.Add(Line{Event: Begun, Device: "d", Plan: f.Plan()}))
		require.NoError(t, r.Close())
		now, err := os.ReadFile(file)
		require.NoError(t, err)
		assert.True(t, strings.HasPrefix(string(now), text.String()), "what stood there stays")
		lines := strings.Split(strings.TrimSuffix(string(now), "\n"), "\n")
		assert.Contains(t, lines[len(lines)-1], `"event":"begun"`, "a line of its own, also behind one that was cut off")
	}
	_, _, _, err := OpenRecord(filepath.Join(t.TempDir(), "none", "night.jsonl"), f)
	assert.Error(t, err)
	big := filepath.Join(t.TempDir(), "big.jsonl")
	require.NoError(t, os.WriteFile(big, nil, 0o644))
	require.NoError(t, os.Truncate(big, maxRecord+1))
	_, _, _, err = OpenRecord(big, f)
	assert.ErrorContains(t, err, "begin another one")
}
