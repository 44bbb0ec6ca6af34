package survey

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"context"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/archive"
	"fitcheck/core/digest"
	"fitcheck/core/image"
)

// node is a file of a made root file system.
type node struct {
	name, text string
	mode       fs.FileMode
}

var system = []node{
	{"bin", "", fs.ModeDir | 0o755},
	{"bin/login", "\x7fELF\x02\x01\x01\x00\x00\x00\x00\x00\x00\x00\x00\x00\x02\x00\xb7\x00 made up", 0o755 | fs.ModeSetuid},
	{"bin/sh", "/bin/login", fs.ModeSymlink | 0o777},
	{"dev", "", fs.ModeDir | 0o755},
	{"dev/console", "", fs.ModeDevice | fs.ModeCharDevice | 0o600},
	{"etc", "", fs.ModeDir | 0o755},
	{"etc/os-release", "NAME=Tramline\nVERSION_ID=8.4.2\n", 0o644},
	{"lib", "", fs.ModeDir | 0o755},
	{"lib/modules", "", fs.ModeDir | 0o755},
	{"lib/modules/6.1.0-tram", "", fs.ModeDir | 0o755},
	{"var", "", fs.ModeDir | 0o755},
	{"var/lib/dpkg/status", "Package: one\nStatus: x\n\nPackage: two\n", 0o644},
}

func cpioSystem(nodes []node) []byte {
	var b bytes.Buffer
	put := func(name, text string, mode fs.FileMode) {
		bits := uint32(mode.Perm())
		switch {
		case mode.IsDir():
			bits |= 0o040000
		case mode&fs.ModeSymlink != 0:
			bits |= 0o120000
		case mode&fs.ModeDevice != 0:
			bits |= 0o020000
		default:
			bits |= 0o100000
		}
		if mode&fs.ModeSetuid != 0 {
			bits |= 0o4000
		}
		fmt.Fprintf(&b, "070701%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x", 0, bits, 0, 0, 1, 0, len(text), 0, 0, 5, 1, len(name)+1, 0)
		b.WriteString(name + "\x00")
		for b.Len()%4 != 0 {
			b.WriteByte(0)
		}
		b.WriteString(text)
		for b.Len()%4 != 0 {
			b.WriteByte(0)
		}
	}
	put(".", "", fs.ModeDir|0o755)
	for _, n := range nodes {
		put(n.name, n.text, n.mode)
	}
	put("TRAILER!!!", "", 0)
	return b.Bytes()
}

func tarSystem(nodes []node) []byte {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for _, n := range nodes {
		h := &tar.Header{Name: "./" + n.name, Mode: int64(n.mode.Perm()), Typeflag: tar.TypeReg, Size: int64(len(n.text))}
		switch {
		case n.mode.IsDir():
			h.Typeflag, h.Name = tar.TypeDir, h.Name+"/"
		case n.mode&fs.ModeSymlink != 0:
			h.Typeflag, h.Linkname, h.Size = tar.TypeSymlink, n.text, 0
		case n.mode&fs.ModeDevice != 0:
			h.Typeflag, h.Devmajor, h.Devminor = tar.TypeChar, 5, 1
		}
		if n.mode&fs.ModeSetuid != 0 {
			h.Mode |= 0o4000
		}
		w.WriteHeader(h)
		if h.Size > 0 {
			w.Write([]byte(n.text))
		}
	}
	w.Close()
	return b.Bytes()
}

func zipSystem(nodes []node) []byte {
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for _, n := range nodes {
		h := &zip.FileHeader{Name: n.name, Method: zip.Deflate}
		if n.mode.IsDir() {
			h.Name += "/"
		}
		h.SetMode(n.mode)
		e, _ := w.CreateHeader(h)
		if n.mode&fs.ModeDevice == 0 {
			e.Write([]byte(n.text))
		}
	}
	w.Close()
	return b.Bytes()
}

func surveyOf(t *testing.T, name string, data []byte, o Options) *Survey {
	t.Helper()
	p := filepath.Join(t.TempDir(), name)
	require.NoError(t, os.WriteFile(p, data, 0o600))
	o.Limits = archive.DefaultLimits()
	s, err := Run(context.Background(), p, o)
	require.NoError(t, err)
	return s
}

// A root file system is one row, whatever it is packed into: counted, read for what it
// tells, its links, devices and set-id files no problem.
func TestContents(t *testing.T) {
	gzipped := gz(t, cpioSystem(system))
	for name, data := range map[string][]byte{"ram.cpio": cpioSystem(system), "ram.cpio.gz": gzipped, "root.tar": tarSystem(system), "root.tar.gz": gz(t, tarSystem(system)), "root.zip": zipSystem(system)} {
		s := surveyOf(t, name, data, Options{})
		all := s.FileSystems()
		require.Len(t, all, 1, name)
		c := all[0].Contents
		assert.Equal(t, []int{3, 7, 1, 1, 1, 3}, []int{c.Files, c.Folders, c.Links, c.Devices, c.SetID, c.Depth}, name)
		assert.Equal(t, int64(len(system[1].text)+len(system[6].text)+len(system[11].text)), c.Bytes, name)
		facts := map[string]string{}
		for _, f := range c.Facts {
			facts[string(f.About)] += f.Value + ";"
		}
		assert.Equal(t, map[string]string{"os-release": "NAME=Tramline;VERSION_ID=8.4.2;", "programs": "arm64;", "modules for kernel": "6.1.0-tram;", "packages": "2 by dpkg;"}, facts, name)
		assert.Empty(t, s.Problems, name)
		assert.Empty(t, c.List, "nothing is listed unless it is asked for")
		assert.Nil(t, s.Find(all[0].Address+"::etc/os-release"), "its files are no items")
	}
}

// Of a banner, the line with a number is told.
func TestBanner(t *testing.T) {
	nodes := append(slices.Clone(system), node{"etc/banner", "  ____\n / __/ welcome\n\nTramline 8.4.2, build 731\n", 0o644})
	c := surveyOf(t, "ram.cpio", cpioSystem(nodes), Options{}).FileSystems()[0].Contents
	var said []string
	for _, f := range c.Facts {
		if f.About == image.VersionFile {
			said = append(said, f.Value)
		}
	}
	assert.Equal(t, []string{"Tramline 8.4.2, build 731"}, said)
}

// Asked for, its files are listed with their digests.
func TestContentsListed(t *testing.T) {
	for name, data := range map[string][]byte{"ram.cpio": cpioSystem(system), "root.tar": tarSystem(system), "root.zip": zipSystem(system)} {
		c := surveyOf(t, name, data, Options{Contents: true}).FileSystems()[0].Contents
		got := map[string]image.Listed{}
		for _, e := range c.List {
			got[e.Path] = e
		}
		assert.Len(t, got, len(system), name)
		for _, n := range system {
			e := got[n.name]
			assert.Equal(t, n.mode.Type(), e.Mode.Type(), "%s of %s", n.name, name)
			if n.mode.IsRegular() {
				h := digest.New(digest.SHA256)
				h.Write([]byte(n.text))
				assert.Equal(t, fmt.Sprintf("%x", h.Sum(nil)), e.SHA256, "%s of %s", n.name, name)
				assert.Equal(t, n.mode&fs.ModeSetuid, e.Mode&fs.ModeSetuid, "%s of %s", n.name, name)
			}
		}
		assert.Equal(t, system[2].text, got["bin/sh"].Target, name)
		assert.Equal(t, "text", got["etc/os-release"].Kind, name)
		assert.Equal(t, "elf", got["bin/login"].Kind, name)
	}
}

// An archive that somebody put images into to hand them on is none: its members are items.
func TestDeliveryIsNoRoot(t *testing.T) {
	files := []node{{"description", "made up", 0o644}, {"boot.img", "image", 0o644}, {"lib", "", fs.ModeDir | 0o755}, {"lib/other.img", "other", 0o644}}
	for name, data := range map[string][]byte{"p.tar": tarSystem(files), "p.zip": zipSystem(files), "p.tar.gz": gz(t, tarSystem(files))} {
		s := surveyOf(t, name, data, Options{})
		assert.Empty(t, s.FileSystems(), name)
		assert.Len(t, s.Items, len(files), name) // with the archive, without the folder
	}
	s := surveyOf(t, "p.cpio", cpioSystem(files)[112:], Options{}) // without the folder that find begins with
	assert.Empty(t, s.FileSystems())
	assert.NotNil(t, s.Find("p.cpio::boot.img"))
}

// Damage within a file system is told with the file that it is in.
func TestContentsDamaged(t *testing.T) {
	data := zipSystem(system)
	i := bytes.Index(data, []byte("etc/os-release"))
	data[i+len("etc/os-release")+3] ^= 0x10
	s := surveyOf(t, "root.zip", data, Options{})
	require.NotEmpty(t, s.Root().Damage())
	assert.Contains(t, s.Root().Damage()[0].What, "etc/os-release")
	assert.True(t, s.Root().Contents.Partial)
	cut := cpioSystem(system)
	s = surveyOf(t, "ram.cpio", cut[:len(cut)-300], Options{})
	assert.NotEmpty(t, s.Root().Damage(), "a RAM disk that is cut short")
	assert.True(t, s.Root().Contents.Partial)
	s = surveyOf(t, "i.ext", append(make([]byte, 1024), bytes.Repeat([]byte("\x53\xef"), 2000)...), Options{})
	assert.Nil(t, s.Root().Contents, "of what cannot be opened nothing is counted")
}

func gz(t *testing.T, data []byte) []byte {
	t.Helper()
	var b bytes.Buffer
	w := gzip.NewWriter(&b)
	_, err := w.Write(data)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return b.Bytes()
}

// The files of a package that is installed over a system are that package's.
func TestPackageOverASystem(t *testing.T) {
	data := tarSystem(slices.Concat(system[:1], system[2:])) // without the program, which is none
	deb := "!<arch>\n"
	for _, m := range []struct{ name, data string }{{"debian-binary", "2.0\n"}, {"data.tar", string(data)}} {
		deb += fmt.Sprintf("%-16s%-12d%-6d%-6d%-8s%-10d`\n", m.name, 0, 0, 0, "100644", len(m.data)) + m.data
	}
	s := surveyOf(t, "p.deb", []byte(deb), Options{})
	assert.Empty(t, s.FileSystems())
	assert.NotNil(t, s.Find("p.deb::data.tar::./etc/os-release"))
	for _, p := range s.Problems {
		assert.Equal(t, archive.Note, p.Class, "links and devices are as they should be: %v", p)
	}
}
