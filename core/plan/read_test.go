package plan

import (
	"context"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/archive"
)

func TestReadItem(t *testing.T) {
	b := newBench(t)
	pkg := filepath.Join(b.dir, "packages", "qm-tram-8.4.2.zip")
	read := func(address string, most int64) ([]byte, error) {
		return ReadItem(context.Background(), pkg, address, most, archive.DefaultLimits())
	}
	s := b.survey(t, "qm-tram-8.4.2.zip")
	for _, it := range s.Items {
		if it.Container != archive.None {
			continue
		}
		data, err := read(it.Address, it.Size)
		require.NoError(t, err, it.Address)
		assert.EqualValues(t, it.Size, len(data), it.Address)
		_, err = read(it.Address, it.Size-1)
		assert.ErrorContains(t, err, "it has more than ", it.Address)
	}
	one, err := read("qm-tram-8.4.2.zip::qm-tram-8.4.2/qm8t-a.img", 1<<20)
	require.NoError(t, err)
	other, err := read("qm-tram-8.4.2.zip::qm-tram-8.4.2/qm24t.img", 1<<20)
	require.NoError(t, err)
	assert.NotEqual(t, one, other)
	_, err = read("qm-tram-8.4.2.zip::gone.img", 1<<20)
	assert.ErrorContains(t, err, "no item of this address any more")
	_, err = ReadItem(context.Background(), pkg+"x", "a", 1, archive.DefaultLimits())
	assert.Error(t, err)
}
