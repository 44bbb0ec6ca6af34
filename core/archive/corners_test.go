package archive

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// changing does something when the first item begins.
type changing struct {
	notes
	once bool
	do   func()
}

func (c *changing) Begin(it *Item, head []byte) Sink {
	if !c.once {
		c.once = true
		c.do()
	}
	return c.notes.Begin(it, head)
}

// A folder that changes while it is read: what is gone, and what is no file any more, is told, and the rest is read.
func TestFolderThatChanges(t *testing.T) {
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(1)) // one file after the other
	dir := filepath.Join(t.TempDir(), "pkg")
	require.NoError(t, os.MkdirAll(dir, 0o755))
	for i := range 40 {
		require.NoError(t, os.WriteFile(filepath.Join(dir, fmt.Sprintf("%02d", i)), []byte("text"), 0o644))
	}
	n := &changing{notes: notes{content: map[string]string{}}}
	n.do = func() {
		require.NoError(t, os.Remove(filepath.Join(dir, "38")))
		require.NoError(t, os.Remove(filepath.Join(dir, "39")))
		require.NoError(t, os.Mkdir(filepath.Join(dir, "39"), 0o755))
	}
	require.NoError(t, Walk(context.Background(), dir, DefaultLimits(), n))
	assert.Len(t, n.content, 38)
	assert.True(t, n.says(Denied, "pkg::38", "there is no such file"), "%v", n.problems)
	assert.True(t, n.says(Unsafe, "pkg::39", "not a file any more"), "%v", n.problems)
}

// A folder is refused by the bounds on items and bytes before a byte of it is read, and when the walk is given up.
func TestFolderIsBounded(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "pkg")
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "sub"), 0o755))
	for i, name := range []string{"a", "b", "sub/c"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), bytes.Repeat([]byte("x"), 10+i), 0o644))
	}
	walked := func(change func(*Limits)) (*notes, error) {
		l := DefaultLimits()
		change(&l)
		n := &notes{content: map[string]string{}}
		return n, Walk(context.Background(), dir, l, n)
	}
	for _, c := range []struct {
		bound string
		least int64
		set   func(*Limits, int64)
	}{{BoundItems, 3, func(l *Limits, n int64) { l.Items = n }}, {BoundBytes, 33, func(l *Limits, n int64) { l.Bytes = n }}} {
		_, err := walked(func(l *Limits) { c.set(l, c.least) })
		require.NoError(t, err)
		n, err := walked(func(l *Limits) { c.set(l, c.least-1) })
		var refused *BoundError
		require.ErrorAs(t, err, &refused)
		assert.Equal(t, c.bound, refused.Bound)
		assert.Equal(t, "pkg::sub/c", refused.Item)
		assert.Empty(t, n.content, "nothing is read of a folder that is refused")
	}
	over, stop := context.WithCancel(context.Background())
	stop()
	assert.ErrorIs(t, Walk(over, dir, DefaultLimits(), &notes{content: map[string]string{}}), context.Canceled)
}

// Kinds of problems are told with what they have in common.
func TestPhrases(t *testing.T) {
	for want, whats := range map[string][]string{
		"one": {"one"}, "the same": {"the same", "the same"},
	} {
		k := OfKind{}
		for _, w := range whats {
			k.Problems = append(k.Problems, Problem{What: w})
		}
		assert.Equal(t, want, k.Phrase())
	}
	groups := ByKind([]Problem{{"a", Damaged, "its checksum at byte 12 does not match", ""}, {"b", Damaged, "its checksum at byte 99 does not match", ""}, {"c", Note, "another", ""}})
	require.Len(t, groups, 2)
	assert.Equal(t, "its checksum at byte … does not match", groups[0].Phrase())
	assert.Len(t, groups[0].Problems, 2)
	assert.Equal(t, "another", groups[1].Phrase())
}

// What a stream of LZMA begins with must make sense in each of its forms.
func TestHeadersOfLZMA(t *testing.T) {
	_, err := lzma2Reader([]byte{8, 8}, 10, []io.ReadCloser{io.NopCloser(strings.NewReader(""))})
	assert.ErrorContains(t, err, "make no sense")
	_, err = lzma2Reader([]byte{8}, 10, nil)
	assert.ErrorContains(t, err, "make no sense")
	_, err = zipLzma(strings.NewReader("\x09\x14\x05\x00\x5d\x00\x00"))
	assert.ErrorIs(t, err, io.ErrUnexpectedEOF)
	_, err = zipLzma(strings.NewReader("\x09\x14\x06\x00\x5d\x00\x00\x10\x00"))
	assert.ErrorContains(t, err, "make no sense")
	_, err = lzmaReader(strings.NewReader("\x5d\x00\x00\x10"), 1<<20)
	assert.ErrorIs(t, err, io.ErrUnexpectedEOF)
	_, err = lzmaReader(strings.NewReader("\x5d\x01\x00\x10\x00"+strings.Repeat("\xff", 8)), 1<<20)
	var asks *windowError
	require.ErrorAs(t, err, &asks)
	assert.ErrorContains(t, err, "asks for 1048577 bytes")
	_, err = lzmaReader(strings.NewReader("\x5d\x00\x00\x10\x00"+strings.Repeat("\xff", 8)+"\x00\x00\x00\x00\x00"), 1<<20)
	assert.NoError(t, err, "as much as may be asked for")
	_, err = Inflater("none", strings.NewReader(""))
	assert.ErrorContains(t, err, `the compression "none" is not one`)
	n, err := eof{}.Read(nil)
	assert.Equal(t, 0, n)
	assert.ErrorIs(t, err, io.EOF)
	_, err = eof{}.ReadByte()
	assert.ErrorIs(t, err, io.EOF)
}

// How far a walk is can be seen: all bytes of the package in the end.
func TestProgressOfAWalk(t *testing.T) {
	for name, data := range samples(t) {
		p := filepath.Join(t.TempDir(), name)
		require.NoError(t, os.WriteFile(p, data, 0o644))
		var progress Progress
		require.NoError(t, WalkShown(context.Background(), p, DefaultLimits(), &notes{content: map[string]string{}}, &progress))
		assert.GreaterOrEqual(t, progress.Done(), int64(len(data)), name)
		assert.GreaterOrEqual(t, progress.Total(), int64(len(data)), name)
	}
}

// What the system does not do is told with what to do about it.
func TestErrorsInWords(t *testing.T) {
	full := &OpenError{Path: "/tmp/x", Err: errors.New("no space left on device"), Write: true}
	assert.Equal(t, "/tmp/x: it cannot be written: no space left on device; free some space, or give another folder", full.Error())
	assert.ErrorContains(t, &OpenError{Path: "x", Err: &os.PathError{Op: "open", Path: "x", Err: os.ErrPermission}}, "x: the system does not let you read it (permission denied)")
	assert.ErrorContains(t, &OpenError{Path: "x", Err: &os.PathError{Op: "open", Path: "x", Err: os.ErrNotExist}}, "x: there is no such file or folder")
	assert.Equal(t, "x: strange", (&OpenError{Path: "x", Err: errors.New("strange")}).Error())
}

// half is a stream that ends, or fails, behind what it holds.
type half struct {
	r   io.Reader
	err error
}

func (h half) Read(p []byte) (int, error) {
	n, err := h.r.Read(p)
	if err == io.EOF {
		err = h.err
	}
	return n, err
}

// An ar ends with nothing, with a byte that fills up its last member, or with zeros to the end.
func TestWhereAnArEnds(t *testing.T) {
	broken := errors.New("input/output error")
	for _, c := range []struct {
		name       string
		rest, head string
		err, after error
		ends       bool
		fails      error
	}{
		{"nothing", "", "", io.EOF, io.EOF, true, nil}, {"nothing was read", "", "", io.ErrUnexpectedEOF, io.EOF, false, nil}, {"a byte that fills up", "", "\n", io.ErrUnexpectedEOF, io.EOF, true, nil}, {"another byte", "", "x", io.ErrUnexpectedEOF, io.EOF, false, nil},
		{"zeros", "", strings.Repeat("\x00", 60), nil, io.EOF, true, nil}, {"many zeros", strings.Repeat("\x00", 9000), strings.Repeat("\x00", 60), nil, io.EOF, true, nil}, {"zeros, then others", strings.Repeat("\x00", 9000) + "x", strings.Repeat("\x00", 60), nil, io.EOF, false, nil},
		{"two bytes", "", "\n\n", io.ErrUnexpectedEOF, io.EOF, false, nil}, {"zeros on a broken disk", "", strings.Repeat("\x00", 60), nil, broken, false, broken}, {"one zero", "", "\x00", io.ErrUnexpectedEOF, io.EOF, true, nil},
	} {
		ends, err := arEnds(half{strings.NewReader(c.rest), c.after}, []byte(c.head), c.err)
		assert.Equal(t, c.ends, ends, c.name)
		assert.Equal(t, c.fails, err, c.name)
	}
}

// A zip of 65535 entries is one even without the record that larger ones need.
func TestZipOfAsManyAsItsEndCanTell(t *testing.T) {
	const most = 65535
	files := make([]file, most)
	for i := range files {
		files[i].name = fmt.Sprint(i)
	}
	data := zipOf(files...)
	from, to := bytes.LastIndex(data, []byte("PK\x06\x06")), bytes.LastIndex(data, []byte("PK\x05\x06"))
	require.Positive(t, from, "it has the record")
	without := append(bytes.Clone(data[:from]), data[to:]...)
	copy(without[from+12:], data[from+40:from+44]) // the length of the directory
	copy(without[from+16:], data[from+48:from+52]) // and its place
	for what, data := range map[string][]byte{"with it": data, "without it": without} {
		n, err := walk(t, "p.zip", data, DefaultLimits())
		require.NoError(t, err, what)
		assert.Empty(t, n.problems, what)
		assert.Len(t, n.items, most+1, what)
	}
}
