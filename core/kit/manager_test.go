package kit

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A device finds who manages it in the kit, by the name of the file or by what the file says, and
// among the members of its own file; itself, a stranger and a broken file are nobody.
func TestManagers(t *testing.T) {
	dir := t.TempDir()
	for name, text := range map[string]string{
		"by-file.yaml": "kind: device\nname: another\n", "other.yaml": "kind: device\nname: by-name\n",
		"broken.yaml": "kind: device\nname: [\n", "stack.yaml": "kind: device\nname: stack\ngroup: stack\nmembers: [{name: inner}, {name: two}]\n",
	} {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, "devices"), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "devices", name), []byte(text), 0o644))
	}
	for name, found := range map[string]bool{"by-file": true, "by-name": true, "inner": true, "stack": true, "stranger": false, "broken": false, "self": false} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "devices", "self.yaml"), []byte("kind: device\nname: self\nmanaged_by: "+name+"\n"), 0o644))
		k, err := Open(dir)
		require.NoError(t, err)
		d, err := k.Device("self")
		require.NoError(t, err)
		assert.Equal(t, found, d.Manager() != nil, name)
	}
}
