package e2e

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/e2e/program"
)

// Examples are added from verdicts, and held from then on.
func TestExamplesOfARulebook(t *testing.T) {
	t.Parallel()
	kit := program.WriteKit(t)
	const file = "rulebooks/quillmere.yaml"
	before := readFile(t, kit, file)
	r := program.Call(t, kit, "match", "-example", "-device", "cabinet-07", "qm-tram-8.4.2.zip")
	require.Equal(t, 0, r.Status, r.Errout)
	assert.Contains(t, r.Out, "added to "+file)
	r = program.Call(t, kit, "match", "-example", "-device", "cabinet-12", "qm-tram-a-8.4.2.zip")
	require.Equal(t, 1, r.Status, r.Errout)
	text := readFile(t, kit, file)
	assert.True(t, strings.HasPrefix(text, before), "the rest of it stays as it was")
	more := "  - {device: {model: QM-8T, installed: {main: 7.9.0, boot: 3.1.4}}, to: 8.4.2, want: none}\n" +
		"  - {device: {model: QM-8T, revision: A2, installed: {main: 8.2.1, boot: 3.1.4}}, to: latest, want: [8.4.2]}\n" +
		"  - {capture: captures/cab07.txt, want: {model: QM-8T, installed.main: 8.2.1, slots.A.active: 'true'}}\n" +
		"  - {device: {model: QM-8T, revision: B1, installed: {main: 8.3.1}}, package: qm-tram-a-8.4.2.zip, want: revision.excluded}\n"
	program.Write(t, kit, file, []byte(text+more))
	r = program.Call(t, kit, "rulebook", "test", "-json", file)
	assert.Equal(t, 0, r.Status, r.Out)
	all := program.Document(t, r)["examples"].([]any)
	assert.Len(t, all, 6)
	for _, x := range all {
		assert.Equal(t, true, x.(map[string]any)["ok"], x)
	}
	program.Write(t, kit, file, []byte(text+more+"  - {device: {model: QM-8T, installed: {main: 8.2.1}}, package: gone.zip, want: fits}\n"))
	assert.Equal(t, 3, program.Call(t, kit, "rulebook", "test", file).Status, "a package is not at hand")
	program.Write(t, kit, file, []byte(text+strings.Replace(more, "want: none", "want: [8.2.1, 8.4.2]", 1)))
	r = program.Call(t, kit, "rulebook", "test", file)
	assert.Equal(t, 1, r.Status)
	assert.Contains(t, r.Text(), "want 8.2.1, 8.4.2, came none")
	program.Write(t, kit, file, []byte(text+"  - {device: {model: QM-8T}, package: x.zip, want: perhaps}\n"))
	r = program.Call(t, kit, "rulebook", "check", file)
	assert.Equal(t, 1, r.Status)
	assert.Contains(t, r.Text(), "want is fits, misfit, unsettled")
}

// What patterns catch, what none reads, and which are silent.
func TestPatternsTried(t *testing.T) {
	t.Parallel()
	kit := program.WriteKit(t)
	program.Write(t, kit, "now.txt", []byte("cab> show system\nTramline OS 8.2.1\nModel       : QM-8T\nBoard revision : A2\nUptime 4 days\n"))
	r := program.Call(t, kit, "rulebook", "try", "-json", "rulebooks/quillmere.yaml", "now.txt")
	require.Equal(t, 0, r.Status, r.Errout)
	doc := program.Document(t, r)
	assert.Equal(t, "captures[0].read.name", at(t, doc, "caught", 0, "pattern"))
	unread := doc["unread"].([]any)
	require.Len(t, unread, 2)
	assert.Equal(t, "now.txt:4", at(t, unread[0], "where"))
	assert.Equal(t, "captures[0].read.revision", at(t, unread[0], "nearest"))
	assert.Nil(t, unread[1].(map[string]any)["nearest"])
	for _, s := range doc["silent"].([]any) {
		if at(t, s, "pattern") == "captures[0].read.revision" {
			assert.Equal(t, "Board revision : A2", at(t, s, "nearest"))
		}
	}
	r = program.Call(t, kit, "rulebook", "try", "rulebooks/quillmere.yaml", "qm-tram-9.1.0c.zip")
	assert.Equal(t, 0, r.Status, r.Errout)
	assert.Contains(t, r.Out, "version=9.1.0c", "a name alone")
	assert.Equal(t, 4, program.Call(t, kit, "rulebook", "try", "rulebooks/quillmere.yaml", "gone.txt").Status)
}

func TestTablesImported(t *testing.T) {
	t.Parallel()
	kit := program.WriteKit(t)
	program.Write(t, kit, "moves.md", []byte("| from | to | stops |\n|--|--|--|\n| earlier than 8.0 | 8.4.2 | 8.0, 8.2.1 |\n"))
	program.Write(t, kit, "moves.csv", []byte("from,to,stops\n8.3,8.2.1,-\n"))
	const file = "rulebooks/quillmere.yaml"
	before := readFile(t, kit, file)
	r := program.Call(t, kit, "rulebook", "import", "moves.csv", "-into", file)
	require.Equal(t, 0, r.Status, r.Errout)
	after := readFile(t, kit, file)
	assert.Contains(t, after, "- {from: '8.3.0', to: '8.2.1', allow: true, source: MOVES}   # moves.csv:2\n", "as the rulebook's versions are read")
	assert.Contains(t, after, "MOVES: 'moves.csv'")
	assert.Equal(t, strings.Count(before, "\n")+2, strings.Count(after, "\n"), "the rest stays as it is")
	r = program.Call(t, kit, "rulebook", "import", "moves.md")
	assert.Equal(t, 0, r.Status, r.Errout)
	assert.Contains(t, r.Out, "{from: '<8.0', to: '8.4.2', allow: false, via: '8.0', source: MOVES}")
	program.Write(t, kit, "other.csv", []byte("a,b\n1,2\n"))
	r = program.Call(t, kit, "rulebook", "import", "other.csv")
	assert.Equal(t, 1, r.Status)
	assert.Contains(t, r.Errout, "no table has a column")
}
