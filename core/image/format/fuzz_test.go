package format_test

import (
	"fitcheck/core/image/format"
	"fitcheck/core/image/imagetest"

	"errors"
	"testing"

	"fitcheck/core/archive"
	"fitcheck/core/image"
)

// fuzz feeds anything to the reader of one format, however the file begins,
// and holds what comes back against what every reader promises.
func fuzz(f *testing.F, names ...string) {
	for _, s := range samples() {
		for _, n := range names {
			if s.kind == n {
				f.Add(s.data)
			}
		}
	}
	l := archive.DefaultLimits()
	l.Bytes, l.Items = 64<<20, 2000
	f.Fuzz(func(t *testing.T, data []byte) {
		for _, name := range names {
			only := (&image.Set{}).With(format.Builtin().ByName(name))
			if only.Sniff(data) == nil {
				continue
			}
			readAs(t, only, data, l)
		}
		readAs(t, format.Builtin(), data, l) // whichever format it is taken for
	})
}

// readAs reads a file with a set of formats as it passes by.
func readAs(t *testing.T, set *image.Set, data []byte, l archive.Limits) {
	t.Helper()
	_, m, err := imagetest.Read(set, data, l)
	var bound *archive.BoundError
	if err != nil && !errors.As(err, &bound) {
		t.Fatal(err)
	}
	if m != nil && err == nil {
		if what := imagetest.Promises(m, data); what != "" {
			t.Fatal(what)
		}
	}
}

func FuzzUImage(f *testing.F)   { fuzz(f, "uimage") }
func FuzzDTB(f *testing.F)      { fuzz(f, "dtb") }
func FuzzFIT(f *testing.F)      { fuzz(f, "fit") }
func FuzzTRX(f *testing.F)      { fuzz(f, "trx") }
func FuzzZImage(f *testing.F)   { fuzz(f, "zimage") }
func FuzzFlat(f *testing.F)     { fuzz(f, "arm64-image", "riscv-image") }
func FuzzBzImage(f *testing.F)  { fuzz(f, "bzimage") }
func FuzzELF(f *testing.F)      { fuzz(f, "elf") }
func FuzzPE(f *testing.F)       { fuzz(f, "pe") }
func FuzzCapsule(f *testing.F)  { fuzz(f, "uefi-capsule") }
func FuzzPLDM(f *testing.F)     { fuzz(f, "pldm") }
func FuzzDFU(f *testing.F)      { fuzz(f, "dfu") }
func FuzzIHex(f *testing.F)     { fuzz(f, "ihex") }
func FuzzSRec(f *testing.F)     { fuzz(f, "srec") }
func FuzzUF2(f *testing.F)      { fuzz(f, "uf2") }
func FuzzSquashFS(f *testing.F) { fuzz(f, "squashfs") }
func FuzzCramfs(f *testing.F)   { fuzz(f, "cramfs") }
func FuzzRomfs(f *testing.F)    { fuzz(f, "romfs") }
func FuzzJFFS2(f *testing.F)    { fuzz(f, "jffs2") }
func FuzzUBI(f *testing.F)      { fuzz(f, "ubi") }
func FuzzUBIFS(f *testing.F)    { fuzz(f, "ubifs") }
func FuzzExt(f *testing.F)      { fuzz(f, "ext") }
func FuzzEROFS(f *testing.F)    { fuzz(f, "erofs") }
func FuzzFAT(f *testing.F)      { fuzz(f, "fat") }
func FuzzISO(f *testing.F)      { fuzz(f, "iso9660") }
func FuzzMBR(f *testing.F)      { fuzz(f, "mbr") }
func FuzzGPT(f *testing.F)      { fuzz(f, "gpt") }
func FuzzGzip(f *testing.F)     { fuzz(f, "gzip") }
func FuzzBzip2(f *testing.F)    { fuzz(f, "bzip2") }
func FuzzXz(f *testing.F)       { fuzz(f, "xz") }
func FuzzLzma(f *testing.F)     { fuzz(f, "lzma") }
func FuzzLz4(f *testing.F)      { fuzz(f, "lz4") }
func FuzzZstd(f *testing.F)     { fuzz(f, "zstd") }
func FuzzCpio(f *testing.F)     { fuzz(f, "cpio") }
func FuzzTar(f *testing.F)      { fuzz(f, "tar") }
func FuzzZip(f *testing.F)      { fuzz(f, "zip") }
func Fuzz7z(f *testing.F)       { fuzz(f, "7z") }
func FuzzAr(f *testing.F)       { fuzz(f, "ar") }
