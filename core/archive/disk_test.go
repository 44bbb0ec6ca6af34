package archive

import (
	"context"
	"errors"
	"io"
	"maps"
	"runtime"
	"slices"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/internal/pagetest"
)

// badDisk is a file of which one byte cannot be read.
type badDisk struct {
	data []byte
	bad  int64
	mu   sync.Mutex
	read []bool // which bytes were asked for at random
	next int64  // of the reads one after the other
	// once: reads one after the other all go well.
	once bool
}

var errDisk = errors.New("input/output error")

func (d *badDisk) ReadAt(p []byte, off int64) (int, error) {
	if off >= int64(len(d.data)) {
		return 0, io.EOF
	}
	n := copy(p, d.data[off:])
	d.mu.Lock()
	for i := range n {
		d.read[off+int64(i)] = true
	}
	d.mu.Unlock()
	if d.bad >= off && d.bad < off+int64(n) {
		return int(d.bad - off), errDisk
	}
	if n < len(p) {
		return n, io.EOF
	}
	return n, nil
}

func (d *badDisk) Read(p []byte) (int, error) {
	if d.next >= int64(len(d.data)) {
		return 0, io.EOF
	}
	n := copy(p, d.data[d.next:])
	if from := d.next; !d.once && d.bad >= from && d.bad < from+int64(n) {
		d.next = d.bad
		return int(d.bad - from), errDisk
	}
	d.next += int64(n)
	return n, nil
}

// walkDisk walks a package on a disk.
func walkDisk(d *badDisk, name string) (*notes, error) {
	n := &notes{content: map[string]string{}}
	w := &walker{ctx: context.Background(), limits: DefaultLimits(), visitor: n, root: name, slots: make(chan struct{}, runtime.GOMAXPROCS(0)-1), aheads: make(chan struct{}, 2)}
	w.packed.Store(int64(len(d.data)))
	defer w.cleanUp()
	return n, w.stored(&Item{Address: name, Name: name, Size: int64(len(d.data))}, d, name)
}

// Where a byte of the disk cannot be read, if only once, that ends the walk: it is not told as damage of a package that
// may be sound.
func TestDiskThatCannotBeRead(t *testing.T) {
	all := samples(t)
	maps.Copy(all, pagetest.Images(t, "."))
	for _, name := range slices.Sorted(maps.Keys(all)) {
		t.Run(name, func(t *testing.T) {
			data := all[name]
			sound := &badDisk{data: data, bad: -1, read: make([]bool, len(data))}
			_, err := walkDisk(sound, name)
			require.NoError(t, err)
			for at := 0; at < len(data); at += max(1, len(data)/40) {
				for _, once := range []bool{true, false} {
					if once && !sound.read[at] {
						continue
					}
					n, err := walkDisk(&badDisk{data: data, bad: int64(at), read: make([]bool, len(data)), once: once}, name)
					var opened *OpenError
					if assert.ErrorAs(t, err, &opened, "byte %d of %d: %v", at, len(data), n.problems) {
						assert.Equal(t, name, opened.Path)
						assert.ErrorIs(t, err, errDisk)
					}
				}
			}
		})
	}
}
