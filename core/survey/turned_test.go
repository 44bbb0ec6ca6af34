package survey

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"fitcheck/core/archive"
	"fitcheck/core/rulebook"
	"fitcheck/internal/pagetest"
)

// lists are packages whose manifests and lists of checksums are written as makers write them: the name of the list, and
// its text.
var lists = map[string][]file{
	"lines": {{"rel/m.txt", "main a.img 8.4 size=4 sha256=SUM-A\nboot sub/b.boot 3.2\n"}, {"rel/sums.txt", "SUM-A  a.img\nSUM-B  sub/b.boot\n"}, {"rel/readme.txt", "notes\n"}},
	"json":  {{"manifest.json", "{\"version\": \"8.4\", \"models\": [\"KX-5\", \"KX-7\"],\n \"images\": [\n  {\"file\": \"a.img\", \"component\": \"main\", \"size\": 4, \"sha256\": \"SUM-A\"},\n  {\"file\": \"sub/b.boot\", \"component\": \"boot\", \"version\": \"3.2\"}]}\n"}},
	"xml":   {{"contents.xml", "<package version=\"8.4\">\n<model>KX-5</model>\n<image name=\"a.img\" sha256=\"SUM-A\" size=\"4\"/>\n<image name=\"sub/b.boot\" sha256=\"SUM-B\"/>\n</package>\n"}},
	"ini":   {{"manifest.ini", "[release]\nversion = 8.4\n\n[main]\nfile = a.img\nsha256 = SUM-A\nrevision = A1\n\n[boot]\nfile = sub/b.boot\nsize = 4\n"}},
	"csv":   {{"manifest.csv", "file,component,version,sha256\na.img,main,8.4,SUM-A\nsub/b.boot,boot,3.2,SUM-B\n"}},
	"yaml":  {{"release.yaml", "version: 8.4\nfiles:\n  - {file: a.img, component: main, sha256: SUM-A}\n  - {file: sub/b.boot, component: boot, size: 4}\n"}},
	"sums":  {{"SHA256SUMS", "SUM-A *a.img\nSUM-B *sub/b.boot\n"}, {"MD5SUMS", "MD5 (a.img) = 0123456789abcdef0123456789abcdef\n"}},
}

// TestWhatEachLineOfAListBrings holds what a survey finds in packages, and how that changes when a line of their lists
// is missing, twice there or cut, or a word of it is another, against testdata/lists.txt.
func TestWhatEachLineOfAListBrings(t *testing.T) {
	var b strings.Builder
	rb, err := rulebook.Read("q.yaml", []byte(rules))
	require.NoError(t, err)
	digests := strings.NewReplacer("SUM-A", sha("main"), "SUM-B", sha("boot"))
	for _, name := range slices.Sorted(maps.Keys(lists)) {
		fmt.Fprintf(&b, "## %s\n", name)
		found := func(all []file) []string {
			content := []file{{"rel/a.img", "main"}, {"rel/sub/b.boot", "boot"}, {"rel/more.bin", "\x01\x80more"}}
			var o Options
			switch name {
			case "lines":
				o.Rulebooks = []*rulebook.Rulebook{rb}
			default:
				for i := range content {
					content[i].name = strings.TrimPrefix(content[i].name, "rel/")
				}
			}
			for _, f := range all {
				content = append(content, file{f.name, digests.Replace(f.data)})
			}
			return listed(t, survey(t, o, file{"qm-8.4.zip", zipOf(content...)}))
		}
		sound := found(lists[name])
		b.WriteString(strings.Join(sound, "\n") + "\n")
		changes := pagetest.Changes{Sound: sound, Alike: anyNumber}
		for i, f := range lists[name] {
			look := func(what, text string) {
				other := slices.Clone(lists[name])
				other[i].data = text
				changes.Tell(&b, f.name+" "+what, found(other))
			}
			at := 0
			for n, l := range strings.SplitAfter(f.data, "\n") {
				before, after := f.data[:at], f.data[at+len(l):]
				at += len(l)
				look(fmt.Sprintf("without line %d", n+1), before+after)
				look(fmt.Sprintf("line %d twice", n+1), before+l+l+after)
				look(fmt.Sprintf("line %d cut", n+1), before+l[:len(l)/2]+"\n"+after)
				for _, w := range anyWord.FindAllStringIndex(l, -1) {
					for _, other := range []string{"", "c.img", "../../x", "-7"} {
						look(fmt.Sprintf("line %d, %q for %q", n+1, other, l[w[0]:w[1]]), before+l[:w[0]]+other+l[w[1]:]+after)
					}
				}
				changes.End(&b, fmt.Sprintf("%s line %d", f.name, n+1))
			}
		}
		b.WriteString("\n")
	}
	pagetest.Hold(t, filepath.Join("testdata", "lists.txt"), b.String())
}

// TestWhatPackagesHold holds what surveys, whole, deep and quick, find in archives and file systems that Debian's tools
// made, against testdata/packages.txt.
func TestWhatPackagesHold(t *testing.T) {
	var b strings.Builder
	for _, of := range []string{"content", "archive"} {
		made := pagetest.Images(t, filepath.Join("..", of))
		for _, kind := range slices.Sorted(maps.Keys(made)) {
			data, name := made[kind], kind+".bin"
			told := map[string]bool{}
			path := filepath.Join(t.TempDir(), name)
			for _, how := range []struct {
				name    string
				options Options
				data    []byte
			}{
				{"whole", Options{Contents: true, Texts: true}, data},
				{"quick", Options{Quick: true}, data},
				{"behind something, deep", Options{Deep: true}, append(append([]byte(strings.Repeat("tram\x01\x80\xfe", 700)), data...), "end"...)},
				{"cut, deep", Options{Deep: true, Contents: true}, data[:len(data)*2/3]},
			} {
				require.NoError(t, os.WriteFile(path, how.data, 0o644))
				how.options.Limits = archive.DefaultLimits()
				s, err := Run(context.Background(), path, how.options)
				require.NoError(t, err)
				fmt.Fprintf(&b, "## %s, %s\n", name, how.name)
				var sum pagetest.Sum
				for _, l := range listed(t, s) {
					sum.Add("%s", l)
					if !told[l] { // otherwise than when it was looked at before
						told[l] = true
						b.WriteString(l + "\n")
					}
				}
				fmt.Fprintf(&b, "in all %s\n\n", &sum)
			}
		}
	}
	pagetest.Hold(t, filepath.Join("testdata", "packages.txt"), b.String())
}

// listed are the findings of a survey, a line for each thing that is said of an item.
func listed(t *testing.T, s *Survey) []string {
	var all []json.RawMessage
	require.NoError(t, json.Unmarshal([]byte(findings(t, s, false)), &all))
	var items []map[string]json.RawMessage
	require.NoError(t, json.Unmarshal(all[0], &items))
	var out []string
	for _, it := range items {
		address := string(it["Address"])
		for _, key := range slices.Sorted(maps.Keys(it)) {
			if line := pagetest.Line(it[key]); key != "Address" && key != "Digests" && key != "Text" && line != "null" && line != `""` && line != "0" && line != "false" {
				out = append(out, fmt.Sprintf("%s %s %s", address, key, pagetest.Cut(line, 160)))
			}
		}
	}
	for i, name := range []string{"problems", "manifests", "missing", "notes"} {
		var each []json.RawMessage
		require.NoError(t, json.Unmarshal(all[i+1], &each))
		for _, one := range each {
			out = append(out, name+" "+pagetest.Cut(pagetest.Line(one), 240))
		}
	}
	return out
}

var (
	anyWord   = regexp.MustCompile(`[\w./-]+`)
	anyNumber = regexp.MustCompile(`\b[0-9a-f]{16,}\b|\d+`)
)
