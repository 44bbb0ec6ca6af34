package unpack

import (
	"archive/tar"
	"bytes"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/archive"
)

// rootTar holds the files of a system: a program with set-id and a second name, links, a
// device, and a name that is not safe to write.
func rootTar() string {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	put := func(h tar.Header, text string) {
		h.Size = int64(len(text))
		if h.Mode == 0 {
			h.Mode = 0o644
		}
		w.WriteHeader(&h)
		w.Write([]byte(text))
	}
	for _, d := range []string{"bin/", "etc/", "lib/", "usr/"} {
		put(tar.Header{Name: d, Typeflag: tar.TypeDir, Mode: 0o755}, "")
	}
	put(tar.Header{Name: "bin/login", Mode: 0o4755}, "login")
	put(tar.Header{Name: "bin/su", Typeflag: tar.TypeLink, Linkname: "bin/login"}, "")
	put(tar.Header{Name: "bin/sh", Typeflag: tar.TypeSymlink, Linkname: "/bin/login"}, "")
	put(tar.Header{Name: "bin/console", Typeflag: tar.TypeChar, Devmajor: 5, Devminor: 1}, "")
	put(tar.Header{Name: "etc/os-release"}, "NAME=Tramline\n")
	put(tar.Header{Name: `lib/dev\x2dlabel.unit`}, "unit")
	w.Close()
	return b.String()
}

// A file system is one file; only where its files are asked for are they written, never its
// links and devices, and without set-id bits.
func TestContents(t *testing.T) {
	root := rootTar()
	res, got, err := unpack(t, t.TempDir(), "p.zip", zipOf(file{"root.tar", root}), nil)
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"root.tar": root}, got)
	assert.True(t, said(res, archive.Note, "a file system"), "%v", res.Problems)

	into := t.TempDir()
	res, got, err = unpack(t, into, "p.zip", zipOf(file{"root.tar", root}), func(o *Options) { o.Contents = true })
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"root.tar": root, "root.tar.unpacked/bin/login": "login", "root.tar.unpacked/bin/su": "login", "root.tar.unpacked/etc/os-release": "NAME=Tramline\n"}, got)
	info, err := os.Stat(filepath.Join(into, "root.tar.unpacked/bin/login"))
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o755), info.Mode(), "the set-id bit is dropped")
	assert.True(t, said(res, archive.Note, "which are not written: 2"), "%v", res.Problems)
	assert.True(t, said(res, archive.Unsafe, "backslash"), "%v", res.Problems)
	for _, f := range res.Files {
		assert.EqualValues(t, len(got[f.Path]), f.Size, f.Path)
	}

	_, got, err = unpack(t, t.TempDir(), "root.tar.gz", gzOf(root), func(o *Options) { o.Contents, o.Only = true, glob(t, "**/etc/*") })
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"root.tar.unpacked/etc/os-release": "NAME=Tramline\n"}, got, "a pattern picks files in it")

	res, got, err = unpack(t, t.TempDir(), "root.tar", root, nil)
	require.NoError(t, err)
	assert.Empty(t, got)
	assert.True(t, said(res, archive.Note, "the one file that you have"))
}

// The file systems within images are written as well.
func TestContentsOfParts(t *testing.T) {
	_, got, err := unpack(t, t.TempDir(), "p.zip", zipOf(file{"ram.img", uimage(gzOf(rootTar()))}), func(o *Options) { o.Contents = true })
	require.NoError(t, err)
	var names []string
	for n := range got {
		if strings.HasSuffix(n, "/etc/os-release") {
			names = append(names, n)
			assert.Equal(t, "NAME=Tramline\n", got[n])
		}
	}
	assert.Len(t, names, 1, "%v", got)
}

func said(res *Result, class archive.Class, what string) bool {
	for _, p := range res.Problems {
		if p.Class == class && strings.Contains(p.What, what) {
			return true
		}
	}
	return false
}
