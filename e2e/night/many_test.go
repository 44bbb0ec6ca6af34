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

// Twenty radios of an inventory, three of which do not fit, from the table to the confirmation:
// what fits is done, what does not is listed with its reason.
func TestTwentyRadios(t *testing.T) {
	t.Parallel()
	kit := program.WriteKit(t)
	// An inventory has no slots: what the rulebook says of them is taken out for these.
	rules := strings.NewReplacer("slotted: true", "slotted: false", "      v2: {", "      v9: {arch: arm64, boards: [\"velloway,vr310-v9\"]}\n      v2: {").Replace(readRules(t, kit))
	rules += "\ncaptures:\n  - recognise: '^Wave OS'\n    read: {name: '^Name (\\S+)', serial: '^Serial (\\S+)', model: '^Model (\\S+)', installed.main: '^Runs (\\S+)'}\n"
	program.Write(t, kit, "rulebooks/velloway.yaml", []byte(rules))
	var table strings.Builder
	table.WriteString("Host,Type,HW,S/N,Runs,Site,Ring\n")
	for i := range 20 {
		hw := "v2"
		if i%7 == 3 { // 3, 10 and 17 have a board that no configuration is for
			hw = "v9"
		}
		fmt.Fprintf(&table, "radio-%d,VR310,%s,R-%03d,4.1.0,tunnel,ring-%d\n", i, hw, i, i%3)
	}
	table.WriteString(",VR310,v2,,4.1.0,tunnel,\n")
	program.Write(t, kit, "inventory.csv", []byte(table.String()))
	r := program.Call(t, kit, "device", "inventory.csv", "-map", "name=Host,model=Type,revision=HW,serial=S/N,installed.main=Runs,not_together=Ring", "-into", "radios")
	assert.Equal(t, 1, r.Status, "a row is refused")
	assert.Contains(t, r.Text(), "20 device files of inventory.csv in radios, 1 row refused")
	assert.Contains(t, r.Text(), "inventory.csv:22")

	r = program.Call(t, kit, "match", "-device", "radios", "-format", "csv", "vr310-4.2.0.itb")
	assert.Equal(t, 1, r.Status, r.Errout)
	rows, err := csv.NewReader(strings.NewReader(r.Out)).ReadAll()
	require.NoError(t, err)
	assert.Equal(t, "device,member,package,verdict,release,component,item,from,to,slot,reason", strings.Join(rows[0], ","))
	verdicts := map[string]string{}
	for _, row := range rows[1:] {
		verdicts[row[0]] = row[3]
	}
	assert.Equal(t, []string{"fits", "misfit"}, []string{verdicts["radio-1"], verdicts["radio-3"]}, r.Out)

	r = program.Call(t, kit, "path", "-json", "-device", "radio*", "-device", "radios", "-to", "latest")
	require.NotEqual(t, 2, r.Status, r.Errout)

	r = program.Call(t, kit, "stage", "-device", "radios", "-into", "served", "vr310-4.2.0.itb", "-json")
	assert.Equal(t, 1, r.Status, r.Errout)
	doc := program.Document(t, r)
	assert.Equal(t, true, doc["staged"])
	require.Len(t, doc["files"], 1, "a file is laid down once")
	assert.Len(t, doc["files"].([]any)[0].(map[string]any)["for"], 17)
	refused := map[string]bool{}
	for _, x := range doc["refused"].([]any) {
		refused[x.(map[string]any)["device"].(string)] = true
	}
	assert.Equal(t, map[string]bool{"radio-3": true, "radio-10": true, "radio-17": true}, refused)

	r = program.Call(t, kit, "runbook", "-device", "radios", "-window", "23:00-04:00", "-not-during", "23:10-23:30 backup", "-parallel", "4", "vr310-4.2.0.itb", "-json")
	assert.Equal(t, 1, r.Status, r.Errout)
	doc = program.Document(t, r)
	assert.Len(t, doc["results"], 20)
	placed := 0
	for _, w := range doc["waves"].([]any) {
		w := w.(map[string]any)
		rings := map[int]bool{}
		for _, d := range w["devices"].([]any) {
			var n int
			_, err := fmt.Sscanf(d.(string), "radio-%d", &n)
			require.NoError(t, err)
			require.False(t, rings[n%3], "two of one ring in one wave: %v", w)
			rings[n%3] = true
			placed++
		}
		from := w["at_minute"].(float64)
		require.False(t, from < 30 && from+w["minutes"].(float64) > 10, "in what is excluded: %v", w)
	}
	assert.Equal(t, 17, placed+len(doc["not_placed"].([]any)))

	for i := range 20 {
		version := "4.2.0"
		if i%7 == 3 || i == 5 {
			version = "4.1.0"
		}
		if i != 8 { // which nobody has captured
			program.Write(t, kit, fmt.Sprintf("after/%d.txt", i), fmt.Appendf(nil, "Wave OS\nName radio-%d\nSerial R-%03d\nModel VR-310\nRuns %s\n", i, i, version))
		}
	}
	program.Write(t, kit, "after/stray.txt", []byte("Wave OS\nName radio-77\nSerial R-077\nModel VR-310\nRuns 4.2.0\n"))
	r = program.Call(t, kit, "confirm", "-device", "radios", "-after", "after", "-to", "4.2.0", "-format", "csv")
	assert.Equal(t, 1, r.Status, r.Errout)
	rows, err = csv.NewReader(strings.NewReader(r.Out)).ReadAll()
	require.NoError(t, err)
	assert.Equal(t, "device,member,verdict,check,planned,found", strings.Join(rows[0], ","))
	r = program.Call(t, kit, "confirm", "-device", "radios", "-after", "after", "-to", "4.2.0")
	assert.Contains(t, r.Text(), "no capture shows radio-8")
	assert.Contains(t, r.Text(), "after/stray.txt")
	assert.Contains(t, r.Text(), "radio-5")
}

func readRules(t *testing.T, kit string) string {
	b, err := os.ReadFile(filepath.Join(kit, "rulebooks/velloway.yaml"))
	require.NoError(t, err)
	return string(b)
}
