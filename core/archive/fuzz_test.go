package archive

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// Whatever an archive holds, a walk ends, keeps to its bounds, shows every byte of the file
// itself, and never with the words of a library or of the language.
func FuzzWalk(f *testing.F) {
	for kind, encode := range encoders {
		f.Add("p."+kind, encode(entry{"a.img", "one", ""}, entry{"b/c.img", "two two two", ""}))
		f.Add("p."+kind, encode(entry{"a.img", "one", ""}, entry{"A.IMG", "two", ""}))
	}
	f.Add("p.exe", append([]byte("MZ this program unpacks what follows it"), encoders["zip"](entry{"a.img", "one", ""})...))
	f.Add("p.gz", gzOf("name", []byte("content")))
	inner := zipOf(file{"a", "1"}, file{"../b", "2"})
	f.Add("p.tar", tarOf(file{"a", "1"}, file{"z.zip", string(inner)}))
	f.Add("p.gz", gzOf("x", tarOf(file{"a", "1"})))
	f.Add("p.gz", gzOf("x", inner))
	f.Add("p.iso", isoTrees([]entry{{"a", "1", ""}}, []entry{{"a", "2", ""}}))
	l := DefaultLimits()
	l.Bytes, l.Items, l.ItemFree, l.TotalFree = 8<<20, 500, 1<<20, 4<<20
	f.Fuzz(func(t *testing.T, name string, data []byte) {
		if len(data) > 256<<10 {
			return
		}
		p := filepath.Join(t.TempDir(), "p"+filepath.Ext(filepath.Base(name)))
		if os.WriteFile(p, data, 0o644) != nil {
			return
		}
		n := &notes{content: map[string]string{}}
		err := Walk(context.Background(), p, l, n)
		var bound *BoundError
		var open *OpenError
		if err != nil {
			require.True(t, errors.As(err, &bound) || errors.As(err, &open), "%v", err)
			return
		}
		require.Equal(t, string(data), n.content[NameOf(p)])
		for _, problem := range n.problems {
			require.NotContains(t, problem.What, "runtime error")
			require.NotContains(t, problem.What, "EOF")
		}
	})
}
