package manifest

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/archive"
	"fitcheck/core/fact"
)

// said writes a manifest's records in short: file, version, models, size and
// the line of the version.
func said(m *Manifest) []string {
	var out []string
	for _, r := range m.Records {
		line := 0
		if v := r.Claim.About(fact.Version); len(v) > 0 {
			line = v[0].Source.Line
		}
		out = append(out, fmt.Sprintf("%s %s [%s] %d @%d", r.File, fact.Values(r.Claim.About(fact.Version)), fact.Values(r.Claim.About(fact.Model)), r.Size, line))
	}
	return out
}

func TestDocuments(t *testing.T) {
	fields := map[string]string{"file": "name", "version": "release", "size": "bytes", "models": "fits"}
	for name, c := range map[string]struct {
		d    Document
		text string
		want []string
	}{
		"json": {Document{Form: "json", Records: "images.*", Fields: fields},
			"{\"images\": [\n {\"name\": \"a.img\",\n  \"release\": \"8.4\", \"bytes\": 12, \"fits\": [\"QM-8T\", \"QM-16T\"]},\n {\"name\": \"b.img\", \"release\": \"8.5\"}]}",
			[]string{"a.img 8.4 [QM-8T, QM-16T] 12 @3", "b.img 8.5 [] -1 @4"}},
		"yaml": {Document{Form: "yaml", Records: "images.*", Fields: fields},
			"images:\n  - name: a.img\n    release: 8.4\n    bytes: 12\n    fits: QM-8T, QM-16T\n  - {name: b.img, release: 8.5}\n",
			[]string{"a.img 8.4 [QM-8T, QM-16T] 12 @3", "b.img 8.5 [] -1 @6"}},
		"xml attributes": {Document{Form: "xml", Records: "package.image", Fields: map[string]string{"file": "@name", "version": "@release", "size": "bytes", "model": "fits"}},
			"<package>\n <image name='a.img' release='8.4'><bytes>12</bytes>\n  <fits>QM-8T</fits><fits>QM-16T</fits></image>\n <image name='b.img' release='8.5'/>\n</package>",
			[]string{"a.img 8.4 [QM-8T, QM-16T] 12 @2", "b.img 8.5 [] -1 @4"}},
		"xml, one record": {Document{Form: "xml", Records: "package.image", Fields: map[string]string{"file": "@name"}}, "<package><image name='a.img'/></package>", []string{"a.img  [] -1 @0"}},
		"csv": {Document{Form: "csv", Fields: fields}, "name,release,bytes,fits\n# made up\na.img,8.4,12,\"QM-8T, QM-16T\"\nb.img,8.5,,\n",
			[]string{"a.img 8.4 [QM-8T, QM-16T] 12 @3", "b.img 8.5 [] -1 @4"}},
		"csv with semicolons": {Document{Form: "csv"}, "file;version;models\na.img;8.4;QM-8T,QM-16T\n", []string{"a.img 8.4 [QM-8T, QM-16T] -1 @2"}},
		"csv with tabs":       {Document{Form: "csv"}, "file\tversion\na.img\t8.4\n", []string{"a.img 8.4 [] -1 @2"}},
		"ini": {Document{Form: "ini", Records: "*", Fields: map[string]string{"file": "$section", "version": "release", "size": "bytes", "models": "fits"}},
			"; made up\n[a.img]\nrelease = 8.4\nbytes = 12\nfits = QM-8T, QM-16T\n\n[b.img]\nrelease: 8.5\n",
			[]string{"a.img 8.4 [QM-8T, QM-16T] 12 @3", "b.img 8.5 [] -1 @8"}},
		"ini, sections of one name": {Document{Form: "ini", Records: "*"}, "[image]\nfile = a.img\nversion = 8.4\n[image]\nfile = b.img\nversion = 8.5\n",
			[]string{"a.img 8.4 [] -1 @3", "b.img 8.5 [] -1 @6"}},
		"groups": {Document{Form: "json", Groups: "families.*", GroupFields: map[string]string{"models": "for", "version": "release"}, Records: "files.*", Fields: map[string]string{"file": "name", "version": "release"}},
			"{\"families\": [\n{\"for\": \"QM-8T\", \"release\": \"8.4\", \"files\": [{\"name\": \"a.img\"},\n{\"name\": \"own.img\", \"release\": \"9.0\"}]},\n{\"for\": \"QM-24T\", \"files\": [{\"name\": \"b.img\"}]}]}",
			[]string{"a.img 8.4 [QM-8T] -1 @2", "own.img 9.0 [QM-8T] -1 @3", "b.img  [QM-24T] -1 @0"}},
		"found without paths": {Document{Form: "json"}, "{\"about\": {\"maker\": \"Quillmere\"}, \"list\": {\"all\": [{\"file\": \"a.img\", \"version\": \"8.4\", \"color\": \"grey\"}]}}", []string{"a.img 8.4 [] -1 @1"}},
		"yaml with anchors":   {Document{Form: "yaml"}, "- &a {file: a.img, version: 8.4}\n- *a\n", []string{"a.img 8.4 [] -1 @1"}},
	} {
		t.Run(name, func(t *testing.T) {
			m := c.d.Read("m", []byte(c.text), archive.DefaultLimits())
			assert.Empty(t, m.Problems)
			assert.Equal(t, c.want, said(m))
		})
	}
}

// What does not read is told with its line, and the rest is read on.
func TestDocumentProblems(t *testing.T) {
	deep := strings.Repeat("[", 200) + strings.Repeat("]", 200)
	for name, c := range map[string]struct {
		d    Document
		text string
		line int
		says string
	}{
		"json cut":          {Document{Form: "json"}, "{\"files\": [\n{\"file\": \"a.img\"},\n", 2, "ends before its time"},
		"json syntax":       {Document{Form: "json"}, "{\"files\":\n [}\n", 2, "does not read as JSON"},
		"json twice":        {Document{Form: "json"}, "[{\"file\": \"a\",\n\"file\": \"b\"}]", 2, "a second time"},
		"json more":         {Document{Form: "json"}, "[{\"file\": \"a\"}]\n[]", 2, "follows the end"},
		"json deep":         {Document{Form: "json"}, deep, 1, "more values than are read"},
		"yaml syntax":       {Document{Form: "yaml"}, "a: [b\nc: d\n", 1, "does not read as YAML"},
		"yaml empty":        {Document{Form: "yaml"}, "# nothing\n", 1, "it is empty"},
		"yaml twice":        {Document{Form: "yaml"}, "- file: a\n  file: b\n", 1, "second time"},
		"xml cut":           {Document{Form: "xml"}, "<package>\n<image>\n", 3, "does not read as XML"},
		"csv row too long":  {Document{Form: "csv"}, "file,version\na.img,8.4,more\n", 2, "3 cells, and there are 2 columns"},
		"csv quotes":        {Document{Form: "csv"}, "file,version\n\"a.img,8.4\n", 2, "does not read as CSV"},
		"ini twice":         {Document{Form: "ini"}, "[x]\nfile = a.img\nfile = b.img\n", 3, "stands in line 2 already"},
		"wrong path":        {Document{Form: "json", Records: "images.*"}, "{\"files\": []}", 1, `nothing at the path "images.*"`},
		"wrong group path":  {Document{Form: "json", Groups: "g", Records: "r"}, "{}", 1, `path "g"`},
		"no list at all":    {Document{Form: "json"}, "{\"a\": 1}", 1, "no list of records"},
		"record of no file": {Document{Form: "json", Records: "*"}, "[{\"file\": \"a\"},\n{\"version\": \"8.4\"}]", 2, "names no file"},
		"not a mapping":     {Document{Form: "json", Records: "*"}, "[{\"file\": \"a\"},\n\"b\"]", 2, "no mapping"},
		"size":              {Document{Form: "json", Records: "*"}, "[{\"file\": \"a\",\n\"size\": \"big\"}]", 2, "not a size"},
		"digest":            {Document{Form: "csv"}, "file,sha256\na,abc\n", 2, "64 hexadecimal digits"},
		"unknown form":      {Document{Form: "toml"}, "", 1, "not a form"},
	} {
		t.Run(name, func(t *testing.T) {
			m := c.d.Read("m", []byte(c.text), archive.DefaultLimits())
			require.Len(t, m.Problems, 1)
			assert.Contains(t, m.Problems[0].What, c.says)
			assert.Equal(t, c.line, m.Problems[0].Line)
			assert.NotEmpty(t, m.Problems[0].Advice)
		})
	}
}

// A few lines of aliases that stand for millions of values are refused.
func TestAliasBomb(t *testing.T) {
	text := "a: &a [x, x, x, x, x, x, x, x, x, x]\n"
	for c := 'b'; c <= 'h'; c++ {
		p := c - 1
		text += fmt.Sprintf("%c: &%c [*%c, *%c, *%c, *%c, *%c, *%c, *%c, *%c, *%c, *%c]\n", c, c, p, p, p, p, p, p, p, p, p, p)
	}
	m := Document{Form: "yaml"}.Read("m", []byte(text), archive.DefaultLimits())
	require.Len(t, m.Problems, 1)
	assert.Empty(t, m.Records)
}

func TestGuess(t *testing.T) {
	for text, want := range map[string]struct{ kind, form string }{
		`{"files": [{"file": "a.img"}]}`:           {"json", "json"},
		"<p><image><file>a.img</file></image></p>": {"xml", "xml"},
		"file,version\na.img,8.4\n":                {"text", "csv"},
		"[one]\nfile=a.img\n":                      {"text", "ini"},
		"images:\n- file: a.img\n":                 {"text", "yaml"},
	} {
		m, form, ok := Guess("m", want.kind, []byte(text), archive.DefaultLimits())
		require.True(t, ok, text)
		assert.Equal(t, want.form, form)
		assert.Equal(t, "a.img", m.Records[0].File)
	}
	for _, text := range []string{"hello", "", "some, words\nand, more\n"} {
		_, _, ok := Guess("m", "text", []byte(text), archive.DefaultLimits())
		assert.False(t, ok, "%q is no manifest", text)
	}
	_, _, ok := Guess("m", "uimage", []byte("file\na\n"), archive.DefaultLimits())
	assert.False(t, ok)
}

func TestCheckFields(t *testing.T) {
	assert.NoError(t, CheckFields(map[string]string{"file": "x", "sha384": "y", "models": "z"}))
	assert.ErrorContains(t, CheckFields(map[string]string{"modell": "x"}), `"modell" means nothing`)
}

func TestBeside(t *testing.T) {
	a := strings.Repeat("ab", 32)
	for text, lines := range map[string][]int{
		a + "\n": {1}, "# sums\n" + strings.ToUpper(a) + "  x.img\n": {2}, "SHA256 (x.img) = " + a: {1}, a + `  C:\down\x.img`: {1},
		a + "  y.img": nil, "abc": nil, a + a + "\n": {1}, "<html>": nil,
	} {
		var got []int
		for _, e := range ReadBeside("x.img.sha256", []byte(text), "x.img") {
			got = append(got, e.Line)
		}
		assert.Equal(t, lines, got, text)
	}
}

func FuzzDocuments(f *testing.F) {
	for _, s := range []string{`{"f":[{"file":"a","size":3}]}`, "- file: a\n  models: [b, c]\n", "<p><i file='a'/></p>", "file,version\na,1\n", "[s]\nfile=a\n"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		for _, form := range Forms() {
			for _, d := range []Document{{Form: form}, {Form: form, Groups: "*", Records: "*"}, {Form: form, Records: "a.*.b", Fields: map[string]string{"file": "@x"}}} {
				for _, r := range d.Read("m", data, archive.DefaultLimits()).Records {
					if r.File == "" || r.Line < 1 {
						t.Fatalf("%s: a record without file or line: %+v", form, r)
					}
				}
			}
		}
	})
}
