package content

import (
	"context"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// BenchmarkSquashFS reads all files of a file system of 5 000 small and some large ones.
func BenchmarkSquashFS(b *testing.B) {
	for _, method := range []string{"gzip", "xz", "lzo", "lz4", "zstd"} {
		b.Run(method, func(b *testing.B) {
			img := filepath.Join(b.TempDir(), "i.squashfs")
			run(b, "mksquashfs", append([]string{makeTree(b, 5000), img}, strings.Fields("-quiet -no-progress -comp "+method)...)...)
			info, err := os.Stat(img)
			if err != nil {
				b.Fatal(err)
			}
			b.SetBytes(info.Size())
			b.ReportAllocs()
			for b.Loop() {
				err := open(b, "squashfs", img).Walk(context.Background(), func(f *File) error {
					if !f.Mode.IsRegular() {
						return f.Err
					}
					_, err := io.Copy(io.Discard, f.Open())
					return err
				})
				if err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}
