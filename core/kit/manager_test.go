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

// Of two that could be meant, the one whose file bears the name is, wherever it stands in the folder.
func TestManagerByFileComesFirst(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "devices"), 0o755))
	for name, text := range map[string]string{
		"a.yaml": "kind: device\nname: hub\naddress: 192.0.2.1\n", "hub.yaml": "kind: device\nname: middle\naddress: 192.0.2.2\n", "z.yaml": "kind: device\nname: hub\naddress: 192.0.2.3\n",
		"b.yaml": "kind: device\nname: core\naddress: 192.0.2.4\n", "y.yaml": "kind: device\nname: core\naddress: 192.0.2.5\n", "self.yaml": "kind: device\nname: self\nmanaged_by: hub\n", "self-2.yaml": "kind: device\nname: self-2\nmanaged_by: core\n",
	} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "devices", name), []byte(text), 0o644))
	}
	k, err := Open(dir)
	require.NoError(t, err)
	for device, address := range map[string]string{"self": "192.0.2.2", "self-2": "192.0.2.4"} {
		d, err := k.Device(device)
		require.NoError(t, err)
		require.NotNil(t, d.Manager())
		assert.Equal(t, address, d.Manager().Address.Text, device)
	}
}
