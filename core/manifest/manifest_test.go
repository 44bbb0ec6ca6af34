package manifest

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/archive"
	"fitcheck/core/digest"
	"fitcheck/core/fact"
)

var tram = Lines{
	Heading: regexp.MustCompile(`^\[(?P<models>[^\]]+)\]$`),
	Record:  regexp.MustCompile(`^(?P<component>\w+)\s+(?P<file>\S+)\s+(?P<version>\S+)(?:\s+revs?=(?P<revisions>\S+))?(?:\s+size=(?P<size>\S+))?(?:\s+md5=(?P<md5>\S+))?$`),
}

func TestLines(t *testing.T) {
	m := tram.Read("b.zip::m.txt", []byte("\ufeff# made up\r\n\r\n[QM-8T, QM-16T]\r\nmain a.img 8.4.2 revs=A1,A2 size=12KiB\r\n\n[QM-24T]\nboot b.bin 3.2.0 md5=900150983CD24FB0D6963F7D28E17F72\nwhat is this thing\n"), archive.DefaultLimits())
	require.Len(t, m.Records, 2)
	r := m.Records[0]
	assert.Equal(t, 4, r.Line)
	assert.Equal(t, "a.img", r.File)
	assert.EqualValues(t, 12<<10, r.Size)
	assert.Equal(t, "QM-8T, QM-16T", fact.Values(r.Claim.About(fact.Model)))
	assert.Equal(t, "A1, A2", fact.Values(r.Claim.About(fact.Revision)))
	assert.Equal(t, "b.zip::m.txt:3", r.Claim.About(fact.Model)[0].Source.Where(), "the heading is the source of what it says")
	assert.Equal(t, "b.zip::m.txt:4", r.Claim.About(fact.Version)[0].Source.Where())
	assert.Equal(t, []digest.Sum{{Algorithm: digest.MD5, Hex: "900150983cd24fb0d6963f7d28e17f72"}}, m.Records[1].Digests)
	assert.Equal(t, "QM-24T", fact.Values(m.Records[1].Claim.About(fact.Model)), "a heading ends the one before")
	require.Len(t, m.Problems, 1)
	assert.Equal(t, 8, m.Problems[0].Line)
	assert.Contains(t, m.Problems[0].What, `"what is this thing"`)
}

func TestLinesProblems(t *testing.T) {
	for line, want := range map[string]string{
		"main a.img 8.4.2 size=big":      "not a size",
		"main a.img 8.4.2 md5=9001":      "32 hexadecimal digits",
		"main a.img 8.4.2 and then more": "no pattern",
	} {
		m := tram.Read("m", []byte(line), archive.DefaultLimits())
		require.Len(t, m.Problems, 1, line)
		assert.Contains(t, m.Problems[0].What, want)
		assert.Empty(t, m.Records)
	}
}

// A manifest that passes a bound is refused by it, whatever its form; records that say the
// same are one.
func TestBoundsOfAManifest(t *testing.T) {
	var lines, doc strings.Builder
	doc.WriteString("[")
	for i := range 20 {
		fmt.Fprintf(&lines, "main a%d.img 8.4.2\n", i)
		if i > 0 {
			doc.WriteString(",")
		}
		fmt.Fprintf(&doc, `{"f": "a%d.img", "v": "8.4.2"}`, i)
	}
	doc.WriteString("]")
	same := strings.Repeat("main a.img 8.4.2\n", 20)
	json := Document{Form: "json", Records: "*", Fields: map[string]string{"file": "f", "version": "v"}}
	for name, c := range map[string]struct {
		change func(l *archive.Limits)
		bound  string
	}{
		"as it is": {func(*archive.Limits) {}, ""},
		"records":  {func(l *archive.Limits) { l.Records = 19 }, archive.BoundRecords},
		"facts":    {func(l *archive.Limits) { l.Facts = 19 }, archive.BoundFacts},
	} {
		l := archive.DefaultLimits()
		c.change(&l)
		for form, m := range map[string]*Manifest{"lines": tram.Read("m", []byte(lines.String()), l), "json": json.Read("m", []byte(doc.String()), l)} {
			if c.bound == "" {
				assert.Nil(t, m.Refused, form)
				assert.Len(t, m.Records, 20, form)
				continue
			}
			require.NotNil(t, m.Refused, "%s %s", name, form)
			assert.Equal(t, c.bound, m.Refused.Bound)
			assert.Less(t, len(m.Records), 20)
		}
		m := tram.Read("m", []byte(same), l)
		assert.Nil(t, m.Refused, "%s: lines that say the same are one record", name)
		assert.Len(t, m.Records, 1)
	}
}

// Of a text that nothing reads, the first lines are told and the others counted.
func TestManyProblems(t *testing.T) {
	m := tram.Read("m", []byte(strings.Repeat("what is this thing\n", MaxTold+41)), archive.DefaultLimits())
	require.Len(t, m.Problems, MaxTold+1)
	assert.Equal(t, "it goes on like this: 41 more lines", m.Problems[MaxTold].What)
}

func TestCheckGroups(t *testing.T) {
	assert.NoError(t, CheckGroups(tram.Record))
	assert.ErrorContains(t, CheckGroups(regexp.MustCompile(`(?P<modell>x)`)), `group "modell" means nothing`)
	assert.Equal(t, []digest.Algorithm{digest.MD5}, Digests(tram.Record))
}

func TestSums(t *testing.T) {
	a := strings.Repeat("ab", 32)
	s := ReadSums("l", []byte("# made up\n"+a+"  qm/boot.bin\n"+strings.ToUpper(a)+" *main image.img\n\\"+a+"  od\\nd\\\\\n"+strings.Repeat("0", 32)+"  weak\nnonsense\n"))
	assert.Equal(t, []SumEntry{
		{2, digest.Sum{Algorithm: digest.SHA256, Hex: a}, "qm/boot.bin"},
		{3, digest.Sum{Algorithm: digest.SHA256, Hex: a}, "main image.img"},
		{4, digest.Sum{Algorithm: digest.SHA256, Hex: a}, "od\nd\\"},
		{5, digest.Sum{Algorithm: digest.MD5, Hex: strings.Repeat("0", 32)}, "weak"},
	}, s.Entries)
	require.Len(t, s.Problems, 1)
	assert.Equal(t, 6, s.Problems[0].Line)

	assert.True(t, IsSums([]byte("\n"+a+"  x\n")))
	assert.False(t, IsSums([]byte("words\n"+a+"  x\n")))
	assert.False(t, IsSums([]byte(a+" x\n")), "one blank is another form")
}

func FuzzLists(f *testing.F) {
	f.Add([]byte("[QM-8T]\nmain a.img 8.4.2 revs=A1\n"))
	f.Add([]byte(strings.Repeat("ab", 32) + "  x\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		for _, r := range tram.Read("m", data, archive.DefaultLimits()).Records {
			if r.File == "" || r.Line < 1 {
				t.Fatalf("a record without file or line: %+v", r)
			}
		}
		ReadSums("l", data)
	})
}

// Digests that a document may give are computed with the rest, those that its fields name, or all that a name tells by itself.
func TestDigestsOfADocument(t *testing.T) {
	named := func(all []digest.Algorithm) []string {
		var out []string
		for _, a := range all {
			out = append(out, string(a))
		}
		slices.Sort(out)
		return out
	}
	assert.Equal(t, []string{"md5", "sha1", "sha512"}, named(Document{}.DigestsOf()), "SHA-256 is always computed")
	assert.Equal(t, []string{"md5", "sha384"}, named(Document{Fields: map[string]string{"md5": "a.b", "file": "name", "sha384": "c"}}.DigestsOf()))
	assert.Empty(t, Document{Fields: map[string]string{"file": "name"}}.DigestsOf())
}
