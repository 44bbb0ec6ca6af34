package fact

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestWhere(t *testing.T) {
	for want, s := range map[string]Source{
		"cab.yaml:5":                              {File: "cab.yaml", Line: 5, Column: 3},
		"x.img at 0x20, 32 bytes":                 {File: "x.img", Offset: 0x20, Size: 32, Line: 7},
		"x.img at 0x1d, 1 byte":                   {File: "x.img", Offset: 29, Size: 1},
		"p.zip::x.img":                            {File: "p.zip::x.img"},
		"show.txt:12 by way of cab.yaml:5":        {File: "cab.yaml", Line: 5, Via: Origin{Kind: Capture, File: "show.txt", Line: 12}},
		"show.txt:12 by way of x at 0x0, 4 bytes": {File: "x", Size: 4, Via: Origin{Kind: Capture, File: "show.txt", Line: 12}},
	} {
		assert.Equal(t, want, s.Where())
	}
}

// Only what is above a name can make a fit; a header counts in full only when
// a checksum holds over it, a manifest only when it is signed.
func TestStrength(t *testing.T) {
	for _, c := range []struct {
		kind      Kind
		protected bool
		want      Strength
	}{
		{FileName, false, ByName}, {FileName, true, ByName}, {Checksums, true, ByName},
		{Header, false, Stated}, {Header, true, Protected}, {Manifest, false, Stated}, {Manifest, true, Protected},
		{DeviceFile, false, Protected}, {Capture, false, Protected}, {Rulebook, false, Protected}, {Command, false, Protected},
	} {
		assert.Equal(t, c.want, Fact{Source: Source{Kind: c.kind}, Protected: c.protected}.Strength(), "%s %v", c.kind, c.protected)
	}
	assert.Less(t, ByName, Stated)
	assert.Less(t, Stated, Protected)
}

func TestSplit(t *testing.T) {
	assert.Equal(t, []string{"QM-8T", "QM-16T", "QM-24T"}, Split(Model, "QM-8T, QM-16T\tQM-24T,"))
	assert.Equal(t, []string{"quillmere,qm8t-a", "quillmere,soc"}, Split(Board, "quillmere,qm8t-a quillmere,soc"), "commas belong to board identifiers")
	assert.Empty(t, Split(Model, " , "))
}

func TestLookup(t *testing.T) {
	name, list, ok := Lookup("models")
	assert.Equal(t, Model, name)
	assert.True(t, list && ok)
	name, list, ok = Lookup("version")
	assert.Equal(t, Version, name)
	assert.False(t, list)
	assert.True(t, ok)
	_, _, ok = Lookup("title")
	assert.False(t, ok, "a title is the header's own and nothing that a rulebook reads")
	for _, n := range Names() {
		_, _, ok := Lookup(n)
		assert.True(t, ok, n)
	}
}

func TestClaims(t *testing.T) {
	c := Claim{{About: Board, Value: "a"}, {About: Arch, Value: "arm"}, {About: Board, Value: "b"}, {About: Board, Value: "a"}}
	assert.Len(t, c.About(Board), 3)
	assert.Equal(t, "a, b", Values(c.About(Board)), "each once, in their order")
	w := Witness{Claims: []Claim{c, {{About: Arch, Value: "arm64"}}}}
	assert.Equal(t, "arm, arm64", Values(w.About(Arch)))
	assert.Equal(t, "8.4 or 8.40", Fact{Value: "8.4|8.40", Open: true}.Text())
	assert.Equal(t, "a|b", Fact{Value: "a|b"}.Text())
	assert.False(t, Fact{}.Known())
}

func TestCanonicalArch(t *testing.T) {
	for want, names := range map[string][]string{
		"arm": {"ARM", "armv7", "armhf", "armel", "aarch32"}, "arm64": {"aarch64", "ARMv8"}, "x86_64": {"amd64", "x64", "x86-64"}, "x86": {"i386", "i686"},
		"mipsel": {"mipsle", "mipsel32"}, "mips": {"mips32", "mipseb"}, "ppc64le": {"powerpc64le", "ppc64el"}, "riscv64": {"rv64", "riscv64gc"}, "sparc": {" Sparc "},
	} {
		for _, n := range append(names, want) {
			assert.Equal(t, want, CanonicalArch(n), n)
		}
	}
}
