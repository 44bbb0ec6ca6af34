package draft

import (
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/device"
	"fitcheck/core/path"
	"fitcheck/core/rulebook"
)

func TestWithin(t *testing.T) {
	for cell, want := range map[string]string{
		"8.2.1": "8.2.1", "8.2.1 or later": ">=8.2.1", "8.2.1+": ">=8.2.1", "8.2.x": ">=8.2.0 <8.3.0", "8.x.x": ">=8.0.0 <9.0.0", "v8.2.*": ">=v8.2.0 <v8.3.0",
		"earlier than 8.0.0": "<8.0.0", "7.9.4 or earlier": "<=7.9.4", "8.0.0 - 8.2.1": ">=8.0.0 <=8.2.1", "8.0.0 to 8.2.1": ">=8.0.0 <=8.2.1", ">= 8.1": ">= 8.1",
		"any": "*", "8.2.1, 8.2.2": "8.2.1 || 8.2.2", "R12.4-b731": "R12.4-b731", "at least 3.1": ">=3.1",
	} {
		assert.Equal(t, want, Within(cell), cell)
	}
}

// Three makers' tables, in three forms, become rules that path follows.
func TestTablesBecomeRules(t *testing.T) {
	csv := "Installed release;Target release;Intermediate stops;Model\n7.0.0 or earlier;8.4.0;7.5.0, 8.0.0;Q1\n7.5.x;8.4.0;8.0.0;\n8.0.0+;8.4.0;-;\n8.4.0;;;\n"
	html := "<h1>x</h1><table>\n<tr><th>From</th><th>To</th>\n<th>Upgrade by way of</th><th>Boot loader</th></tr>\n<tr><td>&lt;=7.0.0</td><td>8.4.0</td><td>7.5.0 then<br>8.0.0</td><td>-</td></tr><tr><td>&gt;=7.5.0 &lt;8.0.0</td><td>8.4.0</td><td>8.0.0</td><td>3.2</td></tr><tr><td>8.0.0 or newer</td><td>8.4.0</td><td>&mdash;</td><td></td></tr></table>"
	markdown := "# Moves\n\n| current | new | Q1 |\n|---|---|---|\n| 7.0.0 or earlier | 8.4.0 | 7.5.0 → 8.0.0 |\n| 7.5.x | 8.4.0 | `8.0.0` |\n| 8.0.0+ | 8.4.0 | yes |\n\nno | table\n"
	for name, text := range map[string]string{"moves.csv": csv, "moves.html": html, "moves.md": markdown} {
		t.Run(name, func(t *testing.T) {
			tables, err := ReadTables(name, []byte(text))
			require.NoError(t, err)
			im, err := Import(name, "TAB", tables, nil)
			require.NoError(t, err)
			book := "kind: rulebook\ntitle: t\nmodels: {Q1: {families: [f]}}\nfamilies: {f: {components: {main: {}, boot: {optional: true}}}}\nversions: {default: {pattern: '^(?P<a>\\d+)\\.(?P<b>\\d+)\\.(?P<c>\\d+)$', order: [a, b, c]}}\n" +
				"releases: [{version: 7.0.0}, {version: 7.5.0}, {version: 8.0.0}, {version: 8.4.0}]\n" + im.rulesOnly()
			rb, err := rulebook.Read("r.yaml", []byte(book))
			require.NoError(t, err, book)
			for from, want := range map[string][]string{"7.0.0": {"7.5.0", "8.0.0", "8.4.0"}, "7.5.0": {"8.0.0", "8.4.0"}, "8.0.0": {"8.4.0"}} {
				d, err := device.Read("d.yaml", []byte("kind: device\nname: d\nmodel: Q1\ninstalled: {main: "+from+"}\n"))
				require.NoError(t, err)
				res, err := path.Find(path.Request{Device: d, Rules: func(string) *rulebook.Rulebook { return rb }, Goal: path.Goal{Version: "8.4.0"}})
				require.NoError(t, err)
				var hops []string
				for _, h := range res.Plans[0].Hops {
					hops = append(hops, h.Release)
				}
				assert.Equal(t, want, hops, "from %s\n%s", from, im.YAML())
			}
			if name == "moves.html" {
				require.Len(t, im.Releases, 1)
				assert.Contains(t, im.Releases[0], "component: boot, within: '>=3.2'")
			}
			if name == "moves.csv" {
				assert.Len(t, im.Notes, 1, "a row that names no to is told")
				assert.Contains(t, im.Rules[0], "models: ['Q1']")
			}
		})
	}
	tables, err := ReadTables("x.csv", []byte("name,size\na,1\n"))
	require.NoError(t, err)
	_, err = Import("x.csv", "X", tables, nil)
	assert.ErrorContains(t, err, "no table has a column for where a move comes from")
}

// rulesOnly is what was imported, with moves that are listed and no others.
func (im *Imported) rulesOnly() string {
	out := "sources: {TAB: t}\nhops:\n  upward: listed\n  rules:\n"
	for _, r := range im.Rules {
		out += "    " + r + "\n"
	}
	return out
}

// A table that says in one column whether a move is allowed, and in another what goes with it.
func TestTablesThatSayYesOrNo(t *testing.T) {
	tables, err := ReadTables("moves.csv", []byte("From,To,Allowed,Remark\n6.1.x,6.4.1,no,by way of 6.3.0\n6.3.0,6.4.1,yes,\n6.4.1,6.1.2,yes,the configuration is lost\n6.0.0,6.4.1,no,\n6.2.0,6.4.1,perhaps,ask the maker\n"))
	require.NoError(t, err)
	im, err := Import("moves.csv", "TAB", tables, nil)
	require.NoError(t, err)
	var rules []string
	for _, r := range im.Rules {
		text, _, _ := strings.Cut(r, ", source")
		rules = append(rules, text)
	}
	assert.Equal(t, []string{
		"- {from: '>=6.1.0 <6.2.0', to: '6.4.1', allow: false, via: '6.3.0'", "- {from: '>=6.1.0 <6.2.0', to: '6.3.0', allow: true", "- {from: '6.3.0', to: '6.4.1', allow: true",
		"- {from: '6.4.1', to: '6.1.2', allow: true, resets_config: true", "- {from: '6.0.0', to: '6.4.1', allow: false",
	}, rules)
	require.Len(t, im.Notes, 1)
	assert.Contains(t, im.Notes[0], `moves.csv:6: whether the move is allowed, "perhaps" does not say`)
}

// Rows know the line of the file that they stand in, whatever form the table has.
func TestRowsKnowTheirLines(t *testing.T) {
	for name, c := range map[string]struct {
		text string
		want []Table
	}{
		"a.csv":  {"From,To\n1,2\n\"3\n\",4\n5,6\n", []Table{{[]string{"From", "To"}, []Row{{2, []string{"1", "2"}}, {3, []string{"3\n", "4"}}, {5, []string{"5", "6"}}}}}},
		"a.md":   {"# Moves\n\n| From | To |\n|---|---|\n| 1 | **2** |\n3 | `4`\n\ntext | no table\n\nA | B\n:-- | --:\n5 | 6\n", []Table{{[]string{"From", "To"}, []Row{{5, []string{"1", "2"}}, {6, []string{"3", "4"}}}}, {[]string{"A", "B"}, []Row{{12, []string{"5", "6"}}}}}},
		"a.html": {"<table>\n<tr><th>From<th>To</tr>\n<tr>\n<td>1</td><td>2<br>3</td></tr>\n<tr><td>4\n</table>\n<table><tr><td>A</td></tr><tr><td>5</td></tr></table>", []Table{{[]string{"From", "To"}, []Row{{3, []string{"1", "2, 3"}}, {5, []string{"4"}}}}, {[]string{"A"}, []Row{{7, []string{"5"}}}}}},
	} {
		got, err := ReadTables(name, []byte(c.text))
		require.NoError(t, err)
		assert.Equal(t, c.want, got, name)
	}
}

// A file is matched by its ending, unless that is a part of a version, or all of the name.
func TestGlobOf(t *testing.T) {
	for name, want := range map[string]string{"qm.sig": "**/*.sig", "SHA256SUMS": "**/SHA256SUMS", "sums-8.4.2": "**/sums-8.4.2", "sums-8.4.2b": "**/sums-8.4.2b", ".sig": "**/.sig", "sums.": "**/*.", "a.b.p7s": "**/*.p7s"} {
		assert.Equal(t, want, globOf(name), name)
	}
}

// A heading becomes a pattern that reads what it says of the lines below it.
func TestHeadingShape(t *testing.T) {
	for line, want := range map[string]map[string]string{
		"[QM-8T]": {"models": "QM-8T"}, "[QM-8T rev A1, A2]": {"models": "QM-8T", "revisions": "A1, A2"}, "QM-8T revisions A1 A2:": {"models": "QM-8T", "revisions": "A1 A2"},
		"=== QM-8T hw B1 ===": {"models": "QM-8T", "revisions": "B1"}, "Model: QM-8T": {"models": "QM-8T"}, "model = QM-8T, QM-24T": {"models": "QM-8T, QM-24T"},
		"for QM-8T boards A1, A2": {"models": "QM-8T", "revisions": "A1, A2"}, "QM-8T rev. A1:": {"models": "QM-8T", "revisions": "A1"}, "Region: EU": {"region": "EU"}, "Version: 8.4.2": {"version": "8.4.2"},
		"Architecture: arm64": {"arch": "arm64"}, "Files for all:": {}, "Note: read this": {},
	} {
		shape := regexp.MustCompile("^" + headingShape(line) + "$")
		m := shape.FindStringSubmatch(line)
		if !assert.NotNil(t, m, "%q by %s", line, shape) {
			continue
		}
		got := map[string]string{}
		for i, name := range shape.SubexpNames() {
			if name != "" {
				got[name] = m[i]
			}
		}
		assert.Equal(t, want, got, "%q by %s", line, shape)
	}
}
