package survey

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/archive"
	"fitcheck/core/fact"
)

func TestJoin(t *testing.T) {
	dir := t.TempDir()
	run := func(name, data string) *Survey {
		p := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(p, []byte(data), 0o644))
		o := withRules(t)
		o.Limits = archive.DefaultLimits()
		s, err := Run(context.Background(), p, o)
		require.NoError(t, err)
		return s
	}
	list := run("qm-1.0.zip", zipOf(file{"m.txt", "main a.img 1.0\nboot l.bin 1.0\nboot gone.bin 1.0\n"}, file{"a.img", "xx"}))
	loader := run("l.bin", "loader")
	require.Len(t, list.Missing, 2)
	assert.Same(t, list, Join(list))

	s := Join(list, loader)
	require.Len(t, s.Missing, 1, "what another package brings is not missing")
	assert.Equal(t, "gone.bin", s.Missing[0].File)
	it := s.Find("l.bin")
	require.NotNil(t, it)
	w, ok := it.Witness(fact.Manifest)
	require.True(t, ok, "and what the manifest says of it counts")
	assert.Equal(t, "1.0", w.About(fact.Version)[0].Value)
	_, ok = loader.Find("l.bin").Witness(fact.Manifest)
	assert.False(t, ok, "the survey itself stays as it was")
	assert.Len(t, list.Missing, 2)
	assert.Same(t, loader, s.PartOf("l.bin"))
	assert.Same(t, list, s.PartOf("qm-1.0.zip::a.img"))
	assert.True(t, s.IsRoot(it))
	assert.False(t, s.IsRoot(s.Find("qm-1.0.zip::a.img")))
	assert.Len(t, s.Each(), 2)
	assert.Equal(t, []*Survey{list}, list.Each())
}
