package pagetest

import (
	"compress/gzip"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// Images are what testdata/images/make.sh of a package makes, each packed by gzip, by their names. Of a name that holds
// -further not all is there: only Image gives it.
func Images(t *testing.T, pkg string) map[string][]byte {
	t.Helper()
	files, err := filepath.Glob(filepath.Join(pkg, "testdata", "images", "*.gz"))
	require.NoError(t, err)
	require.NotEmpty(t, files, "no images in %s", pkg)
	out := map[string][]byte{}
	for _, file := range files {
		if name := strings.TrimSuffix(filepath.Base(file), ".gz"); !strings.HasSuffix(name, "-further") {
			out[name] = Image(t, pkg, name)
		}
	}
	return out
}

// Image is one of them.
func Image(t *testing.T, pkg, name string) []byte {
	t.Helper()
	f, err := os.Open(filepath.Join(pkg, "testdata", "images", name+".gz"))
	require.NoError(t, err)
	defer f.Close()
	z, err := gzip.NewReader(f)
	require.NoError(t, err)
	data, err := io.ReadAll(z)
	require.NoError(t, err)
	return data
}
