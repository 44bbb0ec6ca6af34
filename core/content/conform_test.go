package content

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/internal/pagetest"
)

// littles are little file systems, one of each kind: the test file of the kind adds it.
var littles = map[string]func(t testing.TB) []byte{
	"cramfs":   func(testing.TB) []byte { return littleCramfs(binary.LittleEndian) },
	"romfs":    func(testing.TB) []byte { return littleRomfs() },
	"squashfs": func(testing.TB) []byte { b, _, _ := littleSquash(); return b },
	"erofs":    func(t testing.TB) []byte { b, _, _ := littleEROFS(t, erofsLZ4); return b },
	"ext":      func(testing.TB) []byte { return littleExt() },
	"fat":      func(testing.TB) []byte { b, _, _, _ := littleFAT(); return b },
	"ubifs":    func(testing.TB) []byte { b, _ := littleUBIFS(); return b },
	"jffs2":    func(testing.TB) []byte { return littleJFFS2() },
	"cpio":     func(testing.TB) []byte { return littleCpio() },
}

// earlier are lengths at which a file system that is a log is whole, as it was then.
var earlier = map[string][]int{"jffs2": {117, 118, 119, 120}}

// TestConformance is what every registered file system passes. It demands a little one, a fuzz target
// and its words for docs/formats.md.
func TestConformance(t *testing.T) {
	tests := ""
	files, err := filepath.Glob("*_test.go")
	require.NoError(t, err)
	for _, f := range files {
		text, err := os.ReadFile(f)
		require.NoError(t, err)
		tests += string(text)
	}
	for _, k := range Kinds() {
		t.Run(k.Name, func(t *testing.T) {
			assert.NotEmpty(t, k.From, "it does not say which definition it was read by")
			assert.NotEmpty(t, k.Reads, "it does not say what of it is read")
			assert.Regexp(t, `fuzz\(f, "`+k.Name+`"|readAll\("`+k.Name+`"`, tests, "it has no fuzz target")
			if littles[k.Name] == nil {
				t.Fatalf("it has no little file system: littles[%q] = … in its test file", k.Name)
			}
			data := littles[k.Name](t)
			sound, err := summary(k.Name, data)
			require.NoError(t, err)
			require.Contains(t, sound, "-r", "it holds a file")
			for at := range data {
				if at > everyPlace && at%max(1, len(data)/somePlaces) != 0 {
					continue
				}
				// Cut short, it is told, or what is missing was not needed.
				if now, err := summary(k.Name, data[:at]); err == nil && !slices.Contains(earlier[k.Name], at) {
					assert.Equal(t, sound, now, "cut to %d of %d bytes", at, len(data))
				} else if err != nil {
					told(t, err)
				}
				for _, number := range extremes {
					if at%2 == 0 && at+len(number) <= len(data) {
						other := bytes.Clone(data)
						copy(other[at:], number)
						if _, err := summary(k.Name, other); err != nil {
							told(t, err)
						}
					}
				}
				for _, mask := range []byte{0x01, 0xff} {
					other := bytes.Clone(data)
					other[at] ^= mask
					if _, err := summary(k.Name, other); err != nil {
						told(t, err)
					}
				}
			}
		})
	}
}

// extremes are numbers of 16 and 32 bits at which sizes and offsets turn over, in either byte order.
var extremes = [][]byte{{0, 0, 0, 0}, {0xff, 0xff, 0xff, 0xff}, {0x7f, 0xff, 0xff, 0xff}, {0xff, 0xff, 0xff, 0x7f}, {0, 0}, {0xff, 0xff}, {0, 1}, {1, 0}}

// A file system is cut and changed at every place of its beginning, and at some of the rest.
const (
	everyPlace = 800
	somePlaces = 300
)

// told holds an error to be one of those that a file system may end with.
func told(t *testing.T, err error) {
	t.Helper()
	var d *Damage
	var u *Unsupported
	if !errors.As(err, &d) && !errors.As(err, &u) && !errors.Is(err, io.ErrUnexpectedEOF) && !errors.Is(err, io.ErrShortBuffer) {
		t.Fatalf("%T: %v", err, err)
	}
}

// summary lists a file system with the digests of its files, within a bound.
func summary(kind string, data []byte) (string, error) { return summed(kind, data, false) }

// summed tells of the owners, links, times and devices, too, where it is told to.
func summed(kind string, data []byte, owned bool) (string, error) {
	return summedFrom(kind, bytes.NewReader(data), int64(len(data)), owned)
}

func summedFrom(kind string, at io.ReaderAt, size int64, owned bool) (string, error) {
	if kind == "ubi" {
		return volumes(at, size)
	}
	fsys, err := Open(kind, at, size)
	if err != nil {
		return "", err
	}
	var out strings.Builder
	left := int64(1 << 20)
	err = fsys.Walk(context.Background(), func(f *File) error {
		if f.Err != nil {
			return f.Err
		}
		if left -= 1 << 10; left < 0 {
			return io.ErrShortBuffer
		}
		fmt.Fprint(&out, f.Mode, " ", f.Path, " ", f.Target)
		if f.Mode.IsRegular() {
			sum := sha256.New()
			n, err := io.Copy(sum, io.LimitReader(f.Open(), left))
			if err != nil {
				return err
			}
			left -= n
			fmt.Fprintf(&out, " %d %x", n, sum.Sum(nil)[:4])
		}
		out.WriteString("\n")
		if !owned || strings.HasPrefix(f.Path, "many/") {
			return nil
		}
		more := func(format string, args ...any) { fmt.Fprintf(&out, f.Path+" has "+format+"\n", args...) }
		more("user %d", f.UID)
		more("group %d", f.GID)
		more("links %d", f.Links)
		more("node %d", f.Node)
		more("time %s", f.Modified.UTC().Format(time.RFC3339Nano))
		if f.Mode&fs.ModeDevice != 0 {
			more("device %d:%d", f.Major, f.Minor)
		}
		if f.Same != "" {
			more("the content of %s", f.Same)
		}
		return nil
	})
	return out.String(), err
}

// volumes tells of the volumes of a UBI image whose erase blocks have 16 KiB.
func volumes(at io.ReaderAt, size int64) (string, error) {
	all, err := Volumes(at, size, 16<<10)
	if err != nil {
		return "", err
	}
	var out strings.Builder
	for _, v := range all {
		sum := sha256.New()
		n, err := io.Copy(sum, io.NewSectionReader(v, 0, v.Size()))
		if err != nil {
			return "", err
		}
		fmt.Fprintf(&out, "volume %d %q, static %v, %d bytes, %x\n", v.ID, v.Name, v.Static, n, sum.Sum(nil)[:4])
	}
	return out.String(), nil
}

var errVisit = errors.New("no room for it")

// What a visit fails with ends the walk, whichever file it is of, and is told as it is.
func TestAVisitsErrorEndsTheWalk(t *testing.T) {
	all := pagetest.Images(t, ".")
	for kind, little := range littles {
		all[kind+"-little"] = little(t)
	}
	for name, data := range all {
		kind, _, _ := strings.Cut(name, "-")
		if kind == "ubi" {
			continue // what it holds is told as volumes
		}
		walked := func(at int) (calls int, err error) {
			fsys, err := Open(kind, bytes.NewReader(data), int64(len(data)))
			require.NoError(t, err, name)
			err = fsys.Walk(context.Background(), func(f *File) error {
				if calls++; calls-1 == at {
					return errVisit
				}
				return nil
			})
			return calls, err
		}
		n, err := walked(-1)
		require.NoError(t, err, name)
		for at := 0; at < n; at += max(1, n/10) {
			calls, err := walked(at)
			assert.ErrorIs(t, err, errVisit, "%s, file %d of %d", name, at, n)
			assert.Equal(t, at+1, calls, "%s: nothing comes behind it", name)
		}
	}
}
