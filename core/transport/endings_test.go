package transport

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"syscall"
	"testing"
	"testing/synctest"
	"time"

	"github.com/pkg/sftp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/tftp"
)

// How a transfer ended is told in plain words, and as whole only where all of it went over.
func TestHowTransfersEnd(t *testing.T) {
	for _, c := range []struct {
		done int64
		err  error
		kind Kind
		why  string
	}{
		{10, nil, Whole, ""}, {11, nil, Whole, ""}, {9, nil, Broken, "the other side went away"}, {10, io.EOF, Broken, "the other side went away"},
		{10, &Refusal{Withdrawn, "it changed"}, Broken, "it changed"}, {3, fmt.Errorf("sending: %w", &Refusal{Withdrawn, "it changed"}), Broken, "it changed"},
		{3, tftp.ErrTimeout, Broken, "the other side no longer answers"}, {3, os.ErrDeadlineExceeded, Broken, "the other side no longer answers"}, {3, context.Canceled, Broken, "the server was ended"}, {3, net.ErrClosed, Broken, "the server was ended"},
		{3, syscall.ECONNRESET, Broken, "the other side went away"}, {3, syscall.EPIPE, Broken, "the other side went away"}, {3, io.ErrUnexpectedEOF, Broken, "the other side went away"}, {3, errors.New("strange"), Broken, "the other side went away"},
		{3, &tftp.Error{Code: tftp.CodeFull, Message: "no room"}, Broken, (&tftp.Error{Code: tftp.CodeFull, Message: "no room"}).Error()},
	} {
		var told []Event
		tr := begin(func(e Event) { told = append(told, e) }, Event{ID: 7, Protocol: "x", Name: "n", Size: 10, Length: 10})
		tr.Done = c.done
		tr.end(c.err)
		require.Len(t, told, 2)
		assert.Equal(t, Asked, told[0].Kind)
		assert.Equal(t, c.kind, told[1].Kind, "%d, %v", c.done, c.err)
		assert.Equal(t, c.why, told[1].Why, "%d, %v", c.done, c.err)
		assert.Equal(t, c.done, told[1].Done)
		assert.Equal(t, "n", told[1].Name)
	}
	assert.Empty(t, plainWhy(nil))
	assert.Empty(t, plainWhy(errors.New("strange")))
}

// How far a transfer is, is told five times a second and no more often.
func TestProgressIsTold(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var told []Event
		tr := begin(func(e Event) { told = append(told, e) }, Event{Length: 100})
		for i := range 100 {
			time.Sleep(10 * time.Millisecond)
			tr.reached(int64(i + 1))
		}
		require.Len(t, told, 6, "asked, and five times")
		for i, e := range told[1:] {
			assert.Equal(t, Going, e.Kind)
			assert.Equal(t, int64(20*(i+1)), e.Done)
			assert.Equal(t, time.Duration(i+1)*200*time.Millisecond, e.Took)
		}
		assert.Equal(t, int64(100), tr.Done, "what was not told is kept")
	})
}

// What cannot be listened on is told in kind.
func TestWhyItCannotListen(t *testing.T) {
	for _, c := range []struct{ err, is error }{{os.ErrPermission, ErrNoRights}, {syscall.EACCES, ErrNoRights}, {syscall.EADDRINUSE, ErrTaken}} {
		err := listenError(fmt.Errorf("listen: %w", c.err))
		assert.ErrorIs(t, err, c.is)
		assert.ErrorIs(t, err, c.err)
	}
	strange := errors.New("strange")
	assert.Equal(t, strange, listenError(strange))
	assert.NoError(t, listenError(nil))
	for addr, want := range map[string]string{"192.0.2.1:69": "192.0.2.1", "[2001:db8::1]:69": "2001:db8::1", "192.0.2.1": "192.0.2.1", "": ""} {
		assert.Equal(t, want, peerOf(addr))
	}
}

// A refusal is said as each protocol says it; what is none is not told to who asks.
func TestRefusalsOfProtocols(t *testing.T) {
	for reason, want := range map[Reason]int{NotThere: tftp.CodeNotFound, Withdrawn: tftp.CodeAccess, Illegal: tftp.CodeAccess} {
		var told *tftp.Error
		require.ErrorAs(t, tftpRefusal(fmt.Errorf("x: %w", &Refusal{reason, "why"})), &told)
		assert.Equal(t, want, told.Code, reason)
		assert.Equal(t, "why", told.Message)
		is := sftp.ErrSSHFxPermissionDenied
		if reason == NotThere {
			is = sftp.ErrSSHFxNoSuchFile
		}
		assert.ErrorIs(t, sftpRefusal(&Refusal{reason, "why"}), is)
	}
	strange := errors.New("strange")
	assert.Equal(t, strange, tftpRefusal(strange))
	assert.ErrorIs(t, sftpRefusal(strange), sftp.ErrSSHFxPermissionDenied)
}

// shelved is a file as it is given: of a size, with what lies on the disk, and whether it is still sound.
type shelved struct {
	io.ReaderAt
	size  int64
	sound error
}

func (s *shelved) Size() int64  { return s.size }
func (s *shelved) Sound() error { return s.sound }
func (s *shelved) Close() error { return nil }

// A file is read to its end, and its last bytes are given only where it is still what was staged.
func TestSequential(t *testing.T) {
	changed, broken := errors.New("it changed"), errors.New("input/output error")
	data := []byte("0123456789")
	for _, c := range []struct {
		name string
		file *shelved
		got  string
		err  error
	}{
		{"sound", &shelved{bytes.NewReader(data), 10, nil}, "0123456789", nil},
		{"longer on the disk", &shelved{bytes.NewReader(append(data, "more"...)), 10, nil}, "0123456789", nil},
		{"changed", &shelved{bytes.NewReader(data), 10, changed}, "01234567", changed},
		{"shorter", &shelved{bytes.NewReader(data), 11, nil}, "01234567", &Refusal{Withdrawn, "the file has become shorter under the transfer"}},
		{"empty", &shelved{bytes.NewReader(nil), 0, nil}, "", nil},
		{"its end told with its last bytes", &shelved{failingAt{data, 10, io.EOF}, 10, nil}, "0123456789", nil},
		{"its end told before it comes", &shelved{eagerAt{bytes.NewReader(data)}, 10, nil}, "0123456789", nil},
		{"unread", &shelved{failingAt{data, 6, broken}, 10, nil}, "012345", broken},
	} {
		s := &sequential{File: c.file}
		var got []byte
		var err error
		for err == nil {
			var n int
			b := make([]byte, 4)
			n, err = s.Read(b)
			got = append(got, b[:n]...)
		}
		if err == io.EOF {
			err = nil
		}
		assert.Equal(t, c.got, string(got), c.name)
		assert.Equal(t, c.err, err, c.name)
	}
}

// eagerAt tells the end together with the bytes before it, as io.ReaderAt may.
type eagerAt struct{ *bytes.Reader }

func (e eagerAt) ReadAt(p []byte, off int64) (int, error) {
	n, err := e.Reader.ReadAt(p, off)
	if err == nil && off+int64(n) == e.Size() {
		err = io.EOF
	}
	return n, err
}

// failingAt is what lies on a disk that cannot be read from a place on.
type failingAt struct {
	data []byte
	from int64
	err  error
}

func (f failingAt) ReadAt(p []byte, off int64) (int, error) {
	n := copy(p, f.data[off:f.from])
	if n < len(p) {
		return n, f.err
	}
	return n, nil
}
