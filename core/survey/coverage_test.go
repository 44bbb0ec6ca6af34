package survey

import (
	"context"
	"crypto/ed25519"
	"crypto/md5"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/archive"
	"fitcheck/core/digest"
	"fitcheck/core/sign"
)

// weakest is the weakest proof of an item that all bytes have.
func weakest(t *testing.T, s *Survey, address string) string {
	t.Helper()
	it := s.Find(address)
	require.NotNil(t, it, address)
	c, ok := digest.Weakest(s.Coverage(it))
	require.True(t, ok)
	return c.By.String()
}

// A signature of a list covers what the list names by a strong digest, also where the list
// names another list that does; it covers nothing that is named by size or by a digest that
// can be forged, nothing that no list names, and nothing when it fails.
func TestSignatureReachesWhatIsNamedByDigest(t *testing.T) {
	maker := signer('m')
	image, other := file{"a.img", "main image"}, file{"b.img", "another image"}
	md5sum := fmt.Sprintf("%x", md5.Sum([]byte(image.data)))
	manifestOf := func(rest string) string { return "main a.img 8.4" + rest + "\n" }
	strong := manifestOf(" sha256=" + sha(image.data))
	for name, c := range map[string]struct {
		manifest string
		more     []file
		signed   string // what the signature is of
		want     string
	}{
		"named by a strong digest":        {strong, nil, strong, "signature"},
		"named by its size":               {manifestOf(" size=10"), nil, manifestOf(" size=10"), "archive"},
		"named by nothing but its name":   {manifestOf(""), nil, manifestOf(""), "archive"},
		"another text is signed":          {strong, nil, "main a.img 8.5\n", "manifest"},
		"by way of a list it names":       {"boot sums.txt 1.0 sha256=" + sha(sha(image.data)+"  a.img\n") + "\n", []file{{"sums.txt", sha(image.data) + "  a.img\n"}}, "", "signature"},
		"by a list that can be forged":    {"boot sums.txt 1.0 sha256=" + sha(md5sum+"  a.img\n") + "\n", []file{{"sums.txt", md5sum + "  a.img\n"}}, "", "list-inside"},
		"by a list that nothing names":    {"boot b.img 1.0\n", []file{{"sums.txt", sha(image.data) + "  a.img\n"}}, "", "list-inside"},
		"a list that was changed in turn": {"boot sums.txt 1.0 sha256=" + sha("as it was") + "\n", []file{{"sums.txt", sha(image.data) + "  a.img\n"}}, "", "list-inside"},
	} {
		t.Run(name, func(t *testing.T) {
			signed := c.signed
			if signed == "" {
				signed = c.manifest
			}
			files := append([]file{{"m.txt", c.manifest}, image, other, {"m.sig", string(ed25519.Sign(maker, []byte(signed)))}}, c.more...)
			o := withSignature(t, "{item: '**/m.sig', of: manifest, key: maker}")
			o.Keys = keyring("maker", keyOf(t, maker))
			s := survey(t, o, file{"qm-8.4.zip", zipOf(files...)})
			assert.Equal(t, c.want, weakest(t, s, "qm-8.4.zip::a.img"))
			assert.Equal(t, "archive", weakest(t, s, "qm-8.4.zip::b.img"), "what nothing names")
		})
	}
	for digestOf, want := range map[string]string{sha(strong): "signature", fmt.Sprintf("%x", md5.Sum([]byte(strong))): "manifest"} {
		o := withSignature(t, "{item: '**/s.sig', of: checksums, key: maker}")
		o.Keys = keyring("maker", keyOf(t, maker))
		list := digestOf + "  m.txt\n"
		s := survey(t, o, file{"qm-8.4.zip", zipOf(file{"m.txt", strong}, image, file{"sums.txt", list}, file{"s.sig", string(ed25519.Sign(maker, []byte(list)))})})
		require.Equal(t, sign.Verified, s.Signatures[0].Outcome)
		assert.Equal(t, want, weakest(t, s, "qm-8.4.zip::a.img"), "a signed list names the manifest by %s", digestOf)
	}
	o := withSignature(t, "{item: '**/m.sig', of: manifest, key: maker}")
	o.Keys = keyring("maker", keyOf(t, maker))
	s := survey(t, o, file{"qm-8.4.zip", zipOf(file{"m.txt", strong}, file{"a.img", "swapped it"}, file{"m.sig", string(ed25519.Sign(maker, []byte(strong)))})})
	assert.Equal(t, sign.Verified, s.Signatures[0].Outcome)
	c, _ := digest.Weakest(s.Coverage(s.Find("qm-8.4.zip::a.img")))
	assert.False(t, c.Holds, "the signature holds, and what it says of the image does not")
}

// A list speaks of files in its own archive, in its folder before the root; else of those in
// the one archive beside its own, as where control files and content are packed apart.
func TestListsSpeakOfTheArchiveBeside(t *testing.T) {
	list := file{"sums.txt", sha("main") + "  rel/a.img\n"}
	with := func(content string) file { return file{"data.zip", zipOf(file{"rel/a.img", content})} }
	control := file{"control.zip", zipOf(list)}
	const image = "qm-8.4.zip::data.zip::rel/a.img"

	s := survey(t, withRules(t), file{"qm-8.4.zip", zipOf(control, with("main"))})
	assert.NotContains(t, problems(s), "not in the package")
	assert.Equal(t, "list-inside", weakest(t, s, image))

	s = survey(t, withRules(t), file{"qm-8.4.zip", zipOf(control, with("mail"))})
	assert.Contains(t, problems(s), image+": its sha256 is not the published one", "it is held against the list")

	s = survey(t, withRules(t), file{"qm-8.4.zip", zipOf(control, file{"data.zip", zipOf(file{"b.img", "main"})})})
	assert.Contains(t, problems(s), "line 1 lists rel/a.img, which is not in the package")

	s = survey(t, withRules(t), file{"qm-8.4.zip", zipOf(control, with("main"), file{"more.zip", zipOf(file{"rel/a.img", "else"})})})
	assert.Contains(t, problems(s), "which is not in the package", "two archives hold such a file, and nobody says which is meant")
	assert.Equal(t, "archive", weakest(t, s, image))

	folders := zipOf(file{"rel/sums.txt", sha("main") + "  a.img\n"}, file{"a.img", "else"}, file{"rel/a.img", "main"})
	s = survey(t, withRules(t), file{"qm-8.4.zip", folders})
	assert.Equal(t, "list-inside", weakest(t, s, "qm-8.4.zip::rel/a.img"), "its own folder comes before the root")
	assert.Equal(t, "archive", weakest(t, s, "qm-8.4.zip::a.img"))

	own := file{"control.zip", zipOf(list, file{"rel/a.img", "main"})}
	s = survey(t, withRules(t), file{"qm-8.4.zip", zipOf(own, with("else"))})
	assert.Equal(t, "list-inside", weakest(t, s, "qm-8.4.zip::control.zip::rel/a.img"), "its own archive comes first")
	assert.Equal(t, "archive", weakest(t, s, image))
	assert.NotContains(t, problems(s), "published one")
}

// What lists name and is not there is told up to a number, and counted beyond.
func TestManyAbsentFilesAreCounted(t *testing.T) {
	var list strings.Builder
	for i := range 141 {
		fmt.Fprintf(&list, "%s  none%d.img\n", sha("x"), i)
	}
	s := survey(t, withRules(t), file{"qm-8.4.zip", zipOf(file{"sums.txt", list.String()}, file{"a.img", "main"})})
	text := problems(s)
	assert.Contains(t, text, "line 100 lists none99.img")
	assert.NotContains(t, text, "none100.img")
	assert.Contains(t, text, "and 41 more files that it lists are not in the package")
}

// A manifest beyond a bound ends the survey by that bound: half of a manifest would be an
// answer that nobody gave.
func TestRefusedManifest(t *testing.T) {
	o := withRules(t)
	p := filepath.Join(t.TempDir(), "qm-8.4.zip")
	require.NoError(t, os.WriteFile(p, []byte(zipOf(file{"m.txt", "main a.img 8.4\nboot b.img 3.2\n"}, file{"a.img", "main"}, file{"b.img", "boot"})), 0o644))
	for records, refused := range map[int]bool{1: true, 2: false} {
		o.Limits = archive.DefaultLimits()
		o.Limits.Records = records
		_, err := Run(context.Background(), p, o)
		var bound *archive.BoundError
		require.Equal(t, refused, errors.As(err, &bound), "%d: %v", records, err)
		if refused {
			assert.Equal(t, archive.BoundRecords, bound.Bound)
			assert.Equal(t, "qm-8.4.zip::m.txt", bound.Item)
		}
	}
}
