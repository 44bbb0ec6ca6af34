package survey

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"fitcheck/core/archive"
)

// measured are the packages of real kernels and RAM disks that docs/measure/real has fetched and packed; without them a
// made one stands in, whose numbers tell of changes only.
func measured(b *testing.B) []string {
	real, _ := filepath.Glob(filepath.Join(os.TempDir(), "fitcheck-measure", "*.*"))
	var out []string
	for _, p := range real {
		switch filepath.Ext(p) {
		case ".zip", ".gz", ".zst", ".tar", ".iso", ".squashfs":
			out = append(out, p)
		}
	}
	if len(out) > 0 {
		return out
	}
	made := filepath.Join(b.TempDir(), "made.zip")
	system := string(cpioSystem(system))
	if err := os.WriteFile(made, []byte(zipOf(file{"a.img", string(uimage([]byte(noise(1, 8<<20))))}, file{"b.bin", noise(2, 8<<20)}, file{"rootfs.gz", packedAs("", system)}, file{"copy.gz", packedAs("", system)})), 0o644); err != nil {
		b.Fatal(err)
	}
	return []string{made}
}

// One walk with everything read on it, as survey does it: go test ./core/survey -run '^$' -bench Survey -benchmem.
func BenchmarkSurvey(b *testing.B) {
	for _, path := range measured(b) {
		info, err := os.Stat(path)
		if err != nil {
			b.Fatal(err)
		}
		for name, o := range map[string]Options{"full": {Undigested: true}, "digests": {}, "quick": {Quick: true}} {
			b.Run(filepath.Base(path)+"/"+name, func(b *testing.B) {
				b.SetBytes(info.Size())
				b.ReportAllocs()
				o.Limits = archive.DefaultLimits()
				for b.Loop() {
					if _, err := Run(context.Background(), path, o); err != nil {
						b.Fatal(err)
					}
				}
			})
		}
	}
}
