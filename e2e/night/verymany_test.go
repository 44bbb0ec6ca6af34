package night

import (
	"encoding/csv"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/e2e/program"
)

// Of very many devices those that are alike are judged once, and refer to each other: every one is
// in the document and in the table of rows, with the verdict that it has alone; what is written
// stays small.
func TestVeryManyDevices(t *testing.T) {
	t.Parallel()
	dir := program.WriteKit(t)
	text, err := os.ReadFile(filepath.Join(dir, "devices/cabinet-07.yaml"))
	require.NoError(t, err)
	other, err := os.ReadFile(filepath.Join(dir, "devices/cabinet-12.yaml"))
	require.NoError(t, err)
	const of = 60
	for i := range of {
		program.Write(t, dir, fmt.Sprintf("many/a-%02d.yaml", i), []byte(strings.NewReplacer("cabinet-07", fmt.Sprintf("a-%02d", i), "0417-221", fmt.Sprintf("0417-%d", i)).Replace(string(text))))
		program.Write(t, dir, fmt.Sprintf("many/b-%02d.yaml", i), []byte(strings.NewReplacer("cabinet-12", fmt.Sprintf("b-%02d", i), "0529-034", fmt.Sprintf("0529-%d", i)).Replace(string(other))))
	}
	args := []string{"match", "-device", "many", "packages"}
	doc := program.Document(t, program.Call(t, dir, append(args, "-json")...))
	alone := map[string]any{}
	for _, d := range []string{"a-00", "b-00"} {
		r := program.Document(t, program.Call(t, dir, "match", "-json", "-device", "many/"+d+".yaml", "packages"))
		alone[d[:1]] = r["verdict"]
	}
	seen, like := map[string]bool{}, 0
	for _, x := range doc["results"].([]any) {
		r := x.(map[string]any)
		name := r["device"].(string)
		if !seen[name] {
			assert.Equal(t, alone[name[:1]], r["verdict"], "%s: the best first", name)
		}
		seen[name] = true
		if r["like"] != nil {
			like++
			assert.Equal(t, name[:1]+"-00", r["like"])
		}
	}
	assert.Len(t, seen, 2*of)
	assert.Equal(t, 2*of-2, like)

	rows, err := csv.NewReader(strings.NewReader(program.Call(t, dir, append(args, "-format", "csv")...).Out)).ReadAll()
	require.NoError(t, err)
	named := map[string]bool{}
	for _, r := range rows[1:] {
		named[r[0]] = true
	}
	assert.Len(t, named, 2*of)

	r := program.Call(t, dir, append(args, "-report", "many.html")...)
	assert.Contains(t, r.Out, "60 × QM-8T A2 at 8.2.1")
	assert.LessOrEqual(t, strings.Count(r.Out, "\n"), 40)
	page := mustRead(t, dir, "many.html")
	assert.Less(t, len(page), 1<<20)
	assert.Contains(t, string(page), "The same holds for a-01, a-02, a-03, a-04, 55 more")

	ways := program.Document(t, program.Call(t, dir, "path", "-json", "-device", "many", "-to", "8.4.2"))
	require.Len(t, ways["results"], 2*of)
	for _, x := range ways["results"].([]any) {
		r := x.(map[string]any)
		assert.Equal(t, true, r["found"])
		assert.NotEmpty(t, r["hops"])
		assert.Equal(t, r["device"].(string) != r["device"].(string)[:1]+"-00", r["like"] != nil)
	}
}

func mustRead(t *testing.T, dir, name string) []byte {
	t.Helper()
	data, err := os.ReadFile(filepath.Join(dir, name))
	require.NoError(t, err)
	return data
}
