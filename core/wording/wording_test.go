package wording

import (
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestText(t *testing.T) {
	dir := t.TempDir()
	_, gone := os.ReadFile(filepath.Join(dir, "gone"))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "file"), nil, 0o600))
	_, through := os.Stat(filepath.Join(dir, "file", "inside"))
	under := os.Mkdir(filepath.Join(dir, "none", "x"), 0o700)
	moved := os.Rename(filepath.Join(dir, "gone"), filepath.Join(dir, "there"))
	_, taken := net.Listen("tcp", "203.0.113.77:0")
	syntax := func(text string) error { var v any; return json.Unmarshal([]byte(text), &v) }
	markup := func(text string) error {
		d := xml.NewDecoder(strings.NewReader(text))
		for {
			if _, err := d.Token(); err != nil {
				return err
			}
		}
	}
	for name, c := range map[string]struct {
		err  error
		want string
	}{
		"gone":      {fmt.Errorf("the list: %w; look again", gone), "the list: " + dir + "/gone: there is no such file or folder; look again"},
		"through":   {through, dir + "/file/inside: a part of the path is a file and not a folder"},
		"under":     {under, dir + "/none/x: nothing can be made there"},
		"moved":     {moved, dir + "/there: there is no such file or folder"},
		"several":   {errors.Join(gone, syscall.ENOSPC), dir + "/gone: there is no such file or folder\nthere is no space left on the disk"},
		"errno":     {fmt.Errorf("x: %w", syscall.EROFS), "x: the disk is read-only"},
		"cut":       {fmt.Errorf("after 3 bytes: %w", io.ErrUnexpectedEOF), "after 3 bytes: it ends in the middle"},
		"JSON":      {syntax(`{"a": }`), "'}' does not belong there"},
		"half JSON": {syntax(`{"a": `), "it ends in the middle"},
		"XML":       {markup("<a><b></a>"), "<b> is closed by </a>"},
		"half XML":  {markup("<a><b>"), "it ends in the middle"},
		"own words": {errors.New("the device has no model; add it"), "the device has no model; add it"},
		"temporary": {&fs.PathError{Op: "mkdir", Path: "/proc/.fitcheck-stage-2303-1804551368", Err: syscall.EACCES}, "/proc: it is not permitted"},
		"renamed":   {&fs.PathError{Op: "open", Path: "/proc/.r.html1658798839467480044", Err: syscall.ENOENT}, "/proc: nothing can be made there"},
	} {
		assert.Equal(t, c.want, Text(c.err), name)
	}
	assert.Contains(t, Text(taken), "this machine has no such address")
	assert.NotContains(t, Text(taken), "bind:")
	assert.Empty(t, Text(nil))
}
