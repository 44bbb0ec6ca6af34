package survey

import (
	"archive/zip"
	"bytes"
	"context"
	"crypto/md5"
	"crypto/sha256"
	"crypto/sha512"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/archive"
	"fitcheck/core/digest"
	"fitcheck/core/fact"
	"fitcheck/core/rulebook"
)

type file struct{ name, data string }

func zipOf(files ...file) string {
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for _, f := range files {
		e, _ := w.Create(f.name)
		e.Write([]byte(f.data))
	}
	w.Close()
	return b.String()
}

const rules = `kind: rulebook
title: Quillmere
models: {QM-8T: {families: [tram-l2]}}
families: {tram-l2: {components: {boot: {title: boot loader}, main: {title: system image}}}}
versions: {default: {pattern: '^(?P<a>\d+)\.(?P<b>\d+)$', order: [a, b]}}
packages:
  - title: bundle
    file: '^qm-(?P<version>[\d.]+)\.zip$'
    manifest: {item: '**/m.txt', form: lines, record: '^(?P<component>\w+)\s+(?P<file>\S+)\s+(?P<version>\S+)(?:\s+size=(?P<size>\d+))?(?:\s+sha256=(?P<sha256>\w+))?$'}
    checksums: '**/sums.txt'
    notes: ['**/readme*']
    items:
      - {match: '**/*.boot', component: boot}
`

// survey lays files out in a folder and surveys the first one.
func survey(t *testing.T, o Options, files ...file) *Survey {
	t.Helper()
	dir := t.TempDir()
	for _, f := range files {
		require.NoError(t, os.WriteFile(filepath.Join(dir, f.name), []byte(f.data), 0o644))
	}
	o.Limits = archive.DefaultLimits()
	s, err := Run(context.Background(), filepath.Join(dir, files[0].name), o)
	require.NoError(t, err)
	return s
}

func withRules(t *testing.T) Options {
	t.Helper()
	rb, err := rulebook.Read("q.yaml", []byte(rules))
	require.NoError(t, err)
	return Options{Rulebooks: []*rulebook.Rulebook{rb}}
}

func problems(s *Survey) string {
	var out []string
	for _, p := range s.Problems {
		out = append(out, fmt.Sprintf("%s: %s: %s", p.Class, p.Item, p.What))
	}
	return strings.Join(out, "\n")
}

func sha(data string) string { return fmt.Sprintf("%x", sha256.Sum256([]byte(data))) }

func TestManifestIsHeldAgainstContent(t *testing.T) {
	good := "main a.img 8.4 size=4 sha256=" + sha("main") + "\nboot sub/b.boot 3.2\n"
	for name, c := range map[string]struct {
		manifest string
		says     string // "" when nothing is wrong
	}{
		"as listed":     {good, ""},
		"other size":    {"main a.img 8.4 size=5\nboot sub/b.boot 3.2\n", "it has 4 bytes"},
		"other digest":  {"main a.img 8.4 sha256=" + sha("x") + "\nboot sub/b.boot 3.2\n", "sha256 is not the published one"},
		"missing":       {good + "main c.img 8.4\n", "c.img"},
		"not a line":    {good + "and so on and on\n", "line 3: no pattern"},
		"climbing name": {good + "main ../../a.img 8.4\n", "../../a.img"},
	} {
		t.Run(name, func(t *testing.T) {
			s := survey(t, withRules(t), file{"qm-8.4.zip", zipOf(file{"rel/m.txt", c.manifest}, file{"rel/a.img", "main"}, file{"rel/sub/b.boot", "boot"})})
			if c.says == "" {
				assert.Empty(t, problems(s))
			} else {
				assert.Contains(t, problems(s)+fmt.Sprint(s.Missing), c.says)
			}
			it := s.Find("qm-8.4.zip::rel/a.img")
			require.NotNil(t, it)
			assert.Equal(t, "main", it.Component())
			w, ok := it.Witness(fact.Manifest)
			require.True(t, ok)
			assert.Equal(t, "qm-8.4.zip::rel/m.txt:1", w.About(fact.Version)[0].Source.Where())
			assert.Equal(t, "manifest", s.Find("qm-8.4.zip::rel/m.txt").Role)
		})
	}
}

func TestNotListed(t *testing.T) {
	s := survey(t, withRules(t), file{"qm-8.4.zip", zipOf(file{"m.txt", "main a.img 8.4\n"}, file{"a.img", "main"}, file{"extra.boot", "\x01\x80boot"}, file{"readme.txt", "hello"})})
	assert.Contains(t, problems(s), "note: qm-8.4.zip::extra.boot: no manifest of the package lists it")
	assert.NotContains(t, problems(s), "a.img")
	assert.NotContains(t, problems(s), "readme", "notes are no firmware that a manifest should list")
	assert.Equal(t, "notes", s.Find("qm-8.4.zip::readme.txt").Role)

	inner := zipOf(file{"m.txt", "main a.img 8.4\n"}, file{"a.img", "main"}, file{"extra.boot", "\x01\x80boot"})
	s = survey(t, withRules(t), file{"depot.zip", zipOf(file{"in.zip", inner}, file{"radio.bin", "\x01\x80radio"})})
	require.Len(t, s.Manifests, 1)
	assert.Contains(t, problems(s), "depot.zip::in.zip::extra.boot: no manifest")
	assert.NotContains(t, problems(s), "radio.bin", "the manifest of another archive does not speak of it")
}

func TestNameAndEntry(t *testing.T) {
	inside := zipOf(file{"m.txt", "main a.img 8.4\n"}, file{"a.img", "main"})
	s := survey(t, withRules(t), file{"qm-8.4.zip", inside})
	require.NotNil(t, s.Entry)
	assert.Equal(t, "8.4", fact.Values(s.NameClaim.About(fact.Version)))

	s = survey(t, withRules(t), file{"download (1).zip", inside})
	require.NotNil(t, s.Entry, "the manifest inside tells which package it is")
	assert.Empty(t, s.NameClaim)
	assert.Contains(t, strings.Join(s.Notes, " "), "by the manifest inside")

	s = survey(t, withRules(t), file{"other.zip", zipOf(file{"a.img", "main"})})
	assert.Nil(t, s.Entry)
	assert.Contains(t, strings.Join(s.Notes, " "), "no rulebook of the kit describes it")

	s = survey(t, withRules(t), file{"qm-8.4.zip", zipOf(file{"a.img", "main"})})
	assert.Contains(t, problems(s), "expects a manifest")
}

func TestChecksumLists(t *testing.T) {
	const data = "the content"
	forms := map[string]string{
		"md5 plain":     fmt.Sprintf("%x  a.img\n", md5.Sum([]byte(data))),
		"sha256 binary": sha(data) + " *a.img\n",
		"sha384 tagged": fmt.Sprintf("SHA384 (a.img) = %x\n", sha512.Sum384([]byte(data))),
		"sha512 tagged": fmt.Sprintf("SHA512 (a.img) = %x\n", sha512.Sum512([]byte(data))),
		"dot in front":  sha(data) + "  ./a.img\n",
	}
	for name, list := range forms {
		t.Run(name, func(t *testing.T) {
			s := survey(t, Options{}, file{"p.zip", zipOf(file{"list", list}, file{"a.img", data})})
			it := s.Find("p.zip::a.img")
			require.Len(t, it.Published, 1)
			assert.True(t, it.Published[0].OK())
			assert.Equal(t, "p.zip::list:1", it.Published[0].Source.Where())
			assert.Equal(t, "checksums", s.Find("p.zip::list").Role)

			s = survey(t, Options{}, file{"p.zip", zipOf(file{"list", list}, file{"a.img", data + "!"})})
			assert.True(t, s.Find("p.zip::a.img").Published[0].Wrong())
			assert.Contains(t, problems(s), "is not the published one")
		})
	}
	s := survey(t, Options{}, file{"p.zip", zipOf(file{"list", sha(data) + "  gone.img\n"}, file{"a.img", data})})
	assert.Contains(t, problems(s), "line 1 lists gone.img, which is not in the package")
}

func TestChecksumFileBeside(t *testing.T) {
	const data = "\x01\x02 an image"
	for name, c := range map[string]struct {
		beside file
		ok     bool
		n      int
	}{
		"lone digest":       {file{"a.img.sha256", sha(data) + "\n"}, true, 1},
		"list":              {file{"a.img.sha256", sha("other") + "  b.img\n" + sha(data) + "  a.img\n"}, true, 1},
		"without .img":      {file{"a.sha256", sha(data) + "  a.img\n"}, true, 1},
		"wrong":             {file{"a.img.sha256", sha("other") + "\n"}, false, 1},
		"of something else": {file{"a.img.sha256", sha(data) + "  b.img\n"}, false, 0},
		"no digest at all":  {file{"a.img.sha256", "<html>not found</html>"}, false, 0},
	} {
		s := survey(t, Options{}, file{"a.img", data}, c.beside)
		require.Len(t, s.Root().Published, c.n, name)
		if c.n > 0 {
			assert.Equal(t, c.ok, s.Root().Published[0].OK(), name)
		}
	}
}

func TestExpectedDigest(t *testing.T) {
	for _, a := range digest.Algorithms() {
		h := digest.New(a)
		h.Write([]byte("abc"))
		sum := digest.Sum{Algorithm: a, Hex: fmt.Sprintf("%x", h.Sum(nil))}
		s := survey(t, Options{Expect: []Expected{{Sum: sum}}}, file{"x.bin", "abc"})
		require.Len(t, s.Root().Published, 1)
		assert.True(t, s.Root().Published[0].OK(), a)
	}
	_, err := Run(context.Background(), t.TempDir(), Options{Limits: archive.DefaultLimits(), Expect: []Expected{{}}})
	assert.ErrorContains(t, err, "a folder has no digest")
}

func TestNotFirmware(t *testing.T) {
	for data, want := range map[string]string{
		"<!DOCTYPE html><html><body>Log in</body></html>":    "HTML page",
		`{"error": "expired", "code": 403}`:                  "JSON",
		"%PDF-1.7\n%\xe2\xe3\xcf\xd3\n":                      "PDF",
		"just some words about the firmware\n":               "text",
		"":                                                   "empty",
		strings.Repeat("\xff", 4096):                         "every byte is FF",
		strings.Repeat("\x00", 4096):                         "every byte is zero",
		"-----BEGIN CERTIFICATE-----\nMIIB\n-----END CERTIF": "not firmware",
	} {
		s := survey(t, Options{}, file{"a.img", data})
		require.NotEmpty(t, s.Root().Damage(), want)
		assert.Contains(t, problems(s), want)
		assert.NotEmpty(t, s.Root().Damage()[0].Advice, "what to do is told")
	}
	s := survey(t, Options{}, file{"a.img", "\x01\x02\x03\x80 something"})
	assert.Empty(t, s.Root().Damage(), "what is not known is not called damaged")
	assert.Contains(t, problems(s), "no format that fitcheck knows")
}

func TestSuffixBelied(t *testing.T) {
	s := survey(t, Options{}, file{"p.tar", zipOf(file{"a.itb", "words and words\n"}, file{"b.txt", "words and words\n"})})
	assert.Contains(t, problems(s), "p.tar: its name ends in .tar, and its content is of the kind zip")
	assert.Contains(t, problems(s), "a.itb: its name ends in .itb, and its content is of the kind text")
	assert.NotContains(t, problems(s), "b.txt")
}

// What a failed download leaves in a folder is told, where a file is named as an archive or an image.
func TestFailedDownloadsInAFolder(t *testing.T) {
	dir := t.TempDir()
	page := "<!DOCTYPE html><html><body>sign in</body></html>"
	for name, data := range map[string]string{"a.zip": page, "b.itb": "", "c.tar.gz": strings.Repeat("\x00", 600), "d.img.xz": strings.Repeat("\xff", 600), "notes.html": page, "page": page, "empty.txt": "", "good.zip": string(zipOf(file{"in.zip", page}))} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(data), 0o644))
	}
	s, err := Run(context.Background(), dir, Options{Limits: archive.DefaultLimits()})
	require.NoError(t, err)
	var damaged []string
	for _, p := range s.Problems {
		if p.Class == archive.Damaged {
			damaged = append(damaged, path.Base(strings.TrimPrefix(p.Item, s.Name+"::"))+": "+p.What)
			assert.Contains(t, p.Advice, "download it again")
		}
	}
	assert.Equal(t, []string{"a.zip: not firmware: it is an HTML page, as a portal gives when the session has ended", "b.itb: not firmware: the file is empty",
		"c.tar.gz: not firmware: every byte is zero", "d.img.xz: not firmware: every byte is FF, as in erased flash"}, damaged)
}

func TestManifestWithoutRulebook(t *testing.T) {
	doc := `{"files": [{"file": "a.img", "version": "8.4", "size": 4}, {"file": "gone.img"}]}`
	s := survey(t, Options{}, file{"p.zip", zipOf(file{"manifest.json", doc}, file{"a.img", "main"})})
	require.Len(t, s.Manifests, 1)
	require.Len(t, s.Missing, 1)
	assert.Equal(t, "gone.img", s.Missing[0].File)
	assert.Contains(t, strings.Join(s.Notes, " "), "no rulebook describes the manifest")

	s = survey(t, Options{}, file{"p.zip", zipOf(file{"settings.json", `{"file": "none.txt", "a": 1}`}, file{"a.img", "main"})})
	assert.Empty(t, s.Manifests, "a document that names no file of the package is no manifest")
	assert.Empty(t, s.Missing)
}

func TestAround(t *testing.T) {
	s := survey(t, Options{}, file{"out.zip", zipOf(file{"in.zip", zipOf(file{"deep/a.img", "x"})})})
	it := s.Find("out.zip::in.zip::deep/a.img")
	require.NotNil(t, it)
	var around []string
	for _, a := range s.Around(it) {
		around = append(around, a.Address)
	}
	assert.Equal(t, []string{"out.zip::in.zip", "out.zip"}, around)
}

func TestQuickComputesNoDigest(t *testing.T) {
	s := survey(t, Options{Quick: true}, file{"p.zip", zipOf(file{"a.img", strings.Repeat("\x01\x80", 1<<18)})})
	it := s.Find("p.zip::a.img")
	assert.True(t, it.Quick)
	assert.Empty(t, it.Digests)
	assert.EqualValues(t, 1<<19, it.Size)
}

func TestEmptyFolder(t *testing.T) {
	s, err := Run(context.Background(), t.TempDir(), Options{Limits: archive.DefaultLimits()})
	require.NoError(t, err)
	assert.Contains(t, problems(s), "there is nothing in it")
	assert.Nil(t, s.Root())
}

func TestTextBound(t *testing.T) {
	p := filepath.Join(t.TempDir(), "p.zip")
	require.NoError(t, os.WriteFile(p, []byte(zipOf(file{"list", strings.Repeat(sha("a")+"  a.img\n", 100)})), 0o644))
	o := Options{Limits: archive.DefaultLimits()}
	o.Limits.Text = 1000
	_, err := Run(context.Background(), p, o)
	var bound *archive.BoundError
	require.ErrorAs(t, err, &bound)
	assert.Equal(t, archive.BoundText, bound.Bound)
	assert.Equal(t, "p.zip::list", bound.Item)
}

// A folder is as large as the files that lie in it; what lies in those counts once.
func TestSizeOfAFolder(t *testing.T) {
	dir := t.TempDir()
	inner := zipOf(file{"x.bin", strings.Repeat("x", 5000)})
	for name, data := range map[string]string{"a.bin": "12345", "sub/b.zip": inner} {
		at := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
		require.NoError(t, os.WriteFile(at, []byte(data), 0o644))
	}
	s, err := Run(context.Background(), dir, Options{Limits: archive.DefaultLimits()})
	require.NoError(t, err)
	assert.EqualValues(t, 5+len(inner), s.Size)
	assert.Len(t, s.Items, 3)
}
