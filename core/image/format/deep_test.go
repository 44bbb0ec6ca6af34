package format_test

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/archive"
	"fitcheck/core/fact"
	"fitcheck/core/image"
	"fitcheck/core/image/format"
	"fitcheck/core/image/imagetest"
)

func noise(seed uint64, n int) []byte {
	r := rand.New(rand.NewPCG(seed, 7))
	b := make([]byte, n)
	for i := range b {
		b[i] = byte(r.Uint32())
	}
	return b
}

func scan(t testing.TB, data []byte) []image.Region {
	t.Helper()
	regions, err := image.Scan(format.Builtin(), archive.Memory("flash", data), nil)
	require.NoError(t, err)
	at := int64(0)
	for _, r := range regions {
		require.Equal(t, at, r.From, "the map has no gap and no overlap")
		require.Greater(t, r.To, r.From)
		at = r.To
	}
	require.EqualValues(t, len(data), at, "the map reaches to the last byte")
	return regions
}

func TestScan(t *testing.T) {
	erased := bytes.Repeat([]byte{0xff}, 10_000)
	pieces := []struct {
		kind string
		data []byte
	}{
		{"uimage", uimage(5, 2, 2, 0, "QM-8T 8.4.2", noise(1, 70_000))}, {"fit", fit(false)}, {"dtb", board("quillmere,qm8t-a")}, {"trx", trx(1, "one", "two")}, {"elf", elf(32, be, 8)},
		{"pe", pe(0xaa64, 10)}, {"uefi-capsule", capsule()}, {"pldm", pldm(2)}, {"squashfs", rootfs}, {"cramfs", cramfs(le)}, {"romfs", romfs()}, {"ubi", ubi()}, {"iso9660", iso()},
		{"erofs", erofs()}, {"gpt", gpt()}, {"7z", sevenZip()}, {"gzip", gz("", noise(2, 5000))}, {"xz", packed("xz", noise(3, 5000))}, {"zstd", packed("zstd", noise(4, 5000))}, {"lz4", packed("lz4", noise(5, 5000))},
	}
	for _, filler := range [][]byte{noise(9, 9_001), erased, make([]byte, 12_345), []byte(strings.Repeat("words between images\n", 600))} {
		var flash []byte
		var want []string
		for _, p := range pieces {
			flash = append(flash, filler...)
			want = append(want, fmt.Sprintf("%s at %d", p.kind, len(flash)))
			flash = append(flash, p.data...)
		}
		flash = append(flash, filler...)
		var got []string
		for _, r := range scan(t, flash) {
			if r.What == "image" {
				got = append(got, fmt.Sprintf("%s at %d", r.Kind, r.From))
			}
		}
		assert.Equal(t, want, got)
	}
}

func TestScanTellsWhatLiesBetween(t *testing.T) {
	img := uimage(5, 2, 2, 0, "QM-8T 8.4.2", noise(1, 20_000))
	var flash []byte
	flash = append(flash, bytes.Repeat([]byte{0xff}, 50_000)...)
	flash = append(flash, img...)
	flash = append(flash, make([]byte, 30_001)...)
	flash = append(flash, noise(2, 25*4096-len(flash)%4096)...)
	var got []string
	for _, r := range scan(t, flash) {
		got = append(got, r.What)
	}
	assert.Equal(t, []string{"erased", "image", "zeros", "data", "random"}, got, "where zeros and noise meet in one block, it is neither")
	m := scan(t, flash)[1].Image
	title, _ := m.First(fact.Title)
	assert.Equal(t, "QM-8T 8.4.2", title.Value)
}

// A false find is worse than a missed one: noise, and images of which
// anything is wrong, give none.
func TestScanFindsNothingFalse(t *testing.T) {
	for seed := range uint64(8) {
		for _, r := range scan(t, noise(seed, 4<<20)) {
			assert.NotEqual(t, "image", r.What, "seed %d at 0x%x: %s", seed, r.From, r.Kind)
		}
	}
	for _, s := range samples() {
		f := format.Builtin().ByName(s.kind)
		if !f.Deep || s.sums == 0 || s.kind == "ubi" {
			continue
		}
		_, m := kindOf(t, s.data)
		bad := append(noise(1, 5000), s.data...)
		bad[5000+m.Sums[0].At] ^= 4
		for _, r := range scan(t, bad) {
			assert.NotEqual(t, s.kind, r.Kind, "%s with a wrong checksum", s.name)
		}
	}
	// Magics by themselves are nothing.
	var magics []byte
	for _, f := range format.Builtin().Formats() {
		for _, m := range append(f.Magics, f.DeepMagics...) {
			magics = append(append(magics, m.Bytes...), noise(3, 200)...)
		}
	}
	for _, r := range scan(t, magics) {
		assert.NotEqual(t, "image", r.What, r.Kind)
	}
}

func FuzzScan(f *testing.F) {
	f.Add(append(noise(1, 300), uimage(5, 2, 2, 0, "x", []byte("payload"))...))
	f.Add(append(append([]byte{0xff, 0xff}, fit(false)...), gz("", []byte("x"))...))
	f.Add(append(ubi(), rootfs...))
	l := archive.DefaultLimits()
	l.Bytes, l.Items = 64<<20, 2000
	f.Fuzz(func(t *testing.T, data []byte) {
		regions, err := image.Scan(format.Builtin(), archive.MemoryWithin("f", data, l), nil)
		if err != nil {
			return // a bound
		}
		at := int64(0)
		for _, r := range regions {
			if r.From != at || r.To <= r.From {
				t.Fatalf("gap or overlap at %d: %+v", at, r)
			}
			at = r.To
		}
		if at != int64(len(data)) {
			t.Fatalf("the map ends at %d of %d", at, len(data))
		}
	})
}

// BenchmarkScan measures a blob without finds; the aim is 500 MB/s on one core.
func BenchmarkScan(b *testing.B) {
	for name, data := range map[string][]byte{"noise": noise(1, 64<<20), "zeros": make([]byte, 64<<20), "code": bytes.Repeat(noise(2, 1000), 67_000)} {
		b.Run(name, func(b *testing.B) {
			b.SetBytes(int64(len(data)))
			for b.Loop() {
				if _, err := image.Scan(format.Builtin(), archive.MemoryWithin("f", data, archive.Limits{Depth: 8, Items: 1 << 40, Bytes: 1 << 60, ItemRatio: 1000, ItemFree: 1 << 60, TotalRatio: 1000, TotalFree: 1 << 60}), nil); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}

// A file that changes its kind with every block is not told block by block without an end: what is left is one region.
func TestScanIsBounded(t *testing.T) {
	const blocks, most = 20_050, 20_001
	data := make([]byte, blocks*4096)
	for i := 1; i < blocks; i += 2 {
		copy(data[i*4096:], bytes.Repeat([]byte{0xff}, 4096))
	}
	regions := scan(t, data)
	require.Len(t, regions, most)
	last := regions[most-1]
	assert.Equal(t, image.Region{From: last.From, To: int64(len(data)), What: "data"}, last)
	assert.EqualValues(t, (most-1)*4096, last.From)
}

// What a stream asks for refuses a package only where a stream is said to lie there: behind a decompressor's code any bytes may look
// like one.
func TestWhatAGuessedStreamAsksFor(t *testing.T) {
	asks := append([]byte{0x28, 0xb5, 0x2f, 0xfd, 0x00, 21 << 3, 0x41, 0, 0}, "12345678"...) // a window of 2 GiB (RFC 8878, section 3.1.1.1.2)
	_, m, err := imagetest.Read(format.Builtin(), zimage(append(make([]byte, 64), asks...), nil), archive.DefaultLimits())
	require.NoError(t, err)
	require.NotNil(t, m)
	require.Len(t, m.Parts, 1)
	assert.Empty(t, m.Damaged())
	_, _, err = imagetest.Read(format.Builtin(), uimage(5, 2, 2, 6, "QM-8T 8.4.2", asks), archive.DefaultLimits())
	var bound *archive.BoundError
	require.ErrorAs(t, err, &bound, "here it is said to be one")
	assert.Equal(t, archive.BoundWindow, bound.Bound)
}
