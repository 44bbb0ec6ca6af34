package evidence

import (
	"archive/zip"
	"bytes"
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/archive"
	"fitcheck/core/fact"
)

func TestCollect(t *testing.T) {
	dir := t.TempDir()
	write := func(name string, data []byte) {
		p := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(p), 0o755))
		require.NoError(t, os.WriteFile(p, data, 0o644))
	}
	var inner, outer bytes.Buffer
	w := zip.NewWriter(&inner)
	image := bytes.Repeat([]byte("0123456789abcdef"), 20)
	e, _ := w.Create("a.img")
	e.Write(image)
	e, _ = w.Create("m.txt")
	e.Write([]byte("one\ntwo\nthree\nfour\nfive\nsix\n"))
	w.Close()
	w = zip.NewWriter(&outer)
	e, _ = w.Create("in.zip")
	e.Write(inner.Bytes())
	w.Close()
	write("packages/p.zip", outer.Bytes())
	write("devices/cab.yaml", []byte("kind: device\nname: cab\nmodel: QM-8T\n"))
	write("captures/cab.txt", []byte("a\nModel: QM-8T\n"))

	header := fact.Source{Kind: fact.Header, File: "p.zip::in.zip::a.img", Offset: 35, Size: 5}
	line := fact.Source{Kind: fact.Manifest, File: "p.zip::in.zip::m.txt", Line: 3}
	part := fact.Source{Kind: fact.Header, File: "p.zip::in.zip::a.img::kernel", Offset: 3, Size: 5}
	late := fact.Source{Kind: fact.Header, File: "p.zip::in.zip::a.img", Offset: 5000, Size: 5}
	model := fact.Source{Kind: fact.Capture, File: "devices/cab.yaml", Line: 3, Via: fact.Origin{Kind: fact.Capture, File: "captures/cab.txt", Line: 2}}
	lost := fact.Source{Kind: fact.Capture, File: "devices/cab.yaml", Line: 30, Via: fact.Origin{Kind: fact.Capture, File: "gone.txt", Line: 2}}
	content := fact.Source{Kind: fact.Content, File: "p.zip"}
	first := fact.Source{Kind: fact.DeviceFile, File: "devices/cab.yaml", Line: 1}
	top := fact.Source{Kind: fact.Checksums, File: "p.zip::in.zip::m.txt", Line: 1}
	start := fact.Source{Kind: fact.Header, File: "p.zip::in.zip::a.img", Offset: 0, Size: 1}
	got, err := Collect(context.Background(), []fact.Source{header, line, part, late, model, lost, content, header, first, top, start},
		Options{KitDir: dir, Packages: map[string]string{"p.zip": filepath.Join(dir, "packages/p.zip")}, Limits: archive.DefaultLimits()})
	require.NoError(t, err)

	h := got[header][0]
	assert.Equal(t, image[16:64], h.Dump, "whole rows, and one more on either side")
	assert.Equal(t, []int64{16, 35, 40}, []int64{h.At, h.Mark, h.MarkEnd})
	assert.Equal(t, []Line{{1, "one", false}, {2, "two", false}, {3, "three", true}, {4, "four", false}, {5, "five", false}}, got[line][0].Lines)
	assert.Contains(t, got[part][0].Why, "inside an image")
	assert.Contains(t, got[late][0].Why, "past the end")
	require.Len(t, got[model], 2, "the capture first, then the file that repeats it")
	assert.Equal(t, []Line{{1, "a", false}, {2, "Model: QM-8T", true}}, got[model][0].Lines)
	assert.Equal(t, "model: QM-8T", got[model][1].Lines[2].Text)
	assert.Contains(t, got[lost][0].Why, "gone.txt is not at hand")
	assert.Contains(t, got[lost][1].Why, "has fewer lines")
	assert.Empty(t, got[content])
	assert.Equal(t, []Line{{1, "kind: device", true}, {2, "name: cab", false}, {3, "model: QM-8T", false}}, got[first][0].Lines)
	assert.Equal(t, []Line{{1, "one", true}, {2, "two", false}, {3, "three", false}}, got[top][0].Lines)
	assert.Equal(t, []int64{0, 0, 1}, []int64{got[start][0].At, got[start][0].Mark, got[start][0].MarkEnd})
}
