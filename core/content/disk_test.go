package content

import (
	"errors"
	"io"
	"maps"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/internal/pagetest"
)

// badDisk is a file of which one byte cannot be read; it notes which were asked for.
type badDisk struct {
	data []byte
	bad  int64
	read []bool
}

var errDisk = errors.New("input/output error")

func (d *badDisk) ReadAt(p []byte, off int64) (int, error) {
	if off < 0 || off >= int64(len(d.data)) {
		return 0, io.EOF
	}
	n := copy(p, d.data[off:])
	for i := range n {
		d.read[off+int64(i)] = true
	}
	if d.bad >= off && d.bad < off+int64(n) {
		return int(d.bad - off), errDisk
	}
	if n < len(p) {
		return n, io.EOF
	}
	return n, nil
}

// Where a byte of the disk cannot be read, that is the error: it is not told as damage of a file system that may be sound,
// nor is anything listed without it.
func TestDiskThatCannotBeRead(t *testing.T) {
	all := pagetest.Images(t, ".")
	for kind, little := range littles {
		all[kind+"-little"] = little(t)
	}
	for _, name := range slices.Sorted(maps.Keys(all)) {
		data := all[name]
		kind, _, _ := strings.Cut(name, "-")
		disk := &badDisk{data: data, bad: -1, read: make([]bool, len(data))}
		_, err := summedFrom(kind, disk, int64(len(data)), false)
		require.NoError(t, err, name)
		var asked []int
		for at, read := range disk.read {
			if read && (data[at] != 0 || at%64 == 0) {
				asked = append(asked, at)
			}
		}
		for i := 0; i < len(asked); i += max(1, len(asked)/100) {
			disk.bad = int64(asked[i])
			said, err := summedFrom(kind, disk, int64(len(data)), false)
			assert.ErrorIs(t, err, errDisk, "%s, byte %d of %d: %s", name, asked[i], len(data), said)
		}
	}
}
