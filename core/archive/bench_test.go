package archive

import (
	"archive/zip"
	"bytes"
	"compress/gzip"
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
)

// passing is a visitor that lets everything pass.
type passing struct{}

func (passing) Begin(*Item, []byte) Sink { return passing{} }

func (passing) Write(p []byte) (int, error) { return len(p), nil }

func (passing) End(*Content, []Problem) error { return nil }

func (passing) Report(Problem) {}

// What a walk costs by itself: go test ./core/archive -run '^$' -bench Walk -benchmem. What is read on it
// core/survey measures, on real files.
func BenchmarkWalk(b *testing.B) {
	half := make([]byte, 4<<20) // packs to about a half
	r := rand.New(rand.NewPCG(1, 1))
	for i := range half {
		half[i] = byte(r.Uint32()) & 15
	}
	var zipped, packed bytes.Buffer
	z := zip.NewWriter(&zipped)
	for i := range 16 {
		w, err := z.Create(fmt.Sprintf("%d.bin", i))
		if err != nil {
			b.Fatal(err)
		}
		_, _ = w.Write(half)
	}
	_ = z.Close()
	g := gzip.NewWriter(&packed)
	for range 16 {
		_, _ = g.Write(half)
	}
	_ = g.Close()
	for name, data := range map[string][]byte{"zip": zipped.Bytes(), "gzip": packed.Bytes()} {
		b.Run(name, func(b *testing.B) {
			path := filepath.Join(b.TempDir(), "p."+name)
			if err := os.WriteFile(path, data, 0o644); err != nil {
				b.Fatal(err)
			}
			b.SetBytes(16 * int64(len(half)))
			b.ReportAllocs()
			for b.Loop() {
				if err := Walk(context.Background(), path, DefaultLimits(), passing{}); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}
