package plan

import (
	"context"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/archive"
)

// staged lays out what a device asks for, and gives the folder.
func staged(t *testing.T, install string) (dir string, names []string) {
	t.Helper()
	b := worked(t, "quillmere.yaml", install+"\n", "qm-tram-8.4.2.zip")
	x, _ := night(t, b, "cabinet-07", "8.4.2")
	for i := range x.Steps {
		for _, p := range x.Steps[i].Packages {
			p.Path = filepath.Join(b.dir, "packages", "qm-tram-8.4.2.zip")
		}
	}
	files, err := Arrange(x.Files(), x.Transfer)
	require.NoError(t, err)
	assert.Empty(t, Walk([]*Target{x}, files))
	dir = filepath.Join(t.TempDir(), "server")
	_, err = (&Staging{Dir: dir, Files: files, Record: []byte("{}"), Limits: archive.DefaultLimits()}).Run(context.Background())
	require.NoError(t, err)
	for _, f := range files {
		names = append(names, f.Name)
		assert.FileExists(t, filepath.Join(dir, filepath.FromSlash(f.Name)))
	}
	return dir, names
}

func TestWhatADeviceAsksFor(t *testing.T) {
	_, names := staged(t, "install: {fetches: tree, root: /boot, strip: 1}")
	assert.Contains(t, names, "boot/release-notes.txt")
	assert.Contains(t, names, "boot/qm24t.img", "everything, whoever it is for")
	assert.Contains(t, names, "boot/extras/mibs.tgz", "what is in it stays in it")
	_, names = staged(t, "install: {fetches: package, root: /pkg}")
	assert.Equal(t, []string{"pkg/qm-tram-8.4.2.zip"}, names)
	_, names = staged(t, "install: {fetches: images}")
	assert.ElementsMatch(t, []string{"qm-tram-8.4.2/boot/qm8t-boot-a.bin", "qm-tram-8.4.2/poe/qm-poe-a.qmi", "qm-tram-8.4.2/qm8t-a.img"}, names)
}

// A device that asks for the manifest first finds it, and then all that it gives its model.
func TestAManifestIsFollowed(t *testing.T) {
	dir, names := staged(t, "install: {fetches: manifest, root: /images}")
	ask := func(name string) string {
		data, err := os.ReadFile(filepath.Join(dir, "images", filepath.FromSlash(name)))
		require.NoError(t, err, "the device asks for it")
		return string(data)
	}
	const at = "qm-tram-8.4.2/"
	manifest := ask(at + "qm_manifest.txt")
	ask(at + "qm_manifest.sig")
	mine, fetched := false, 0
	for line := range strings.SplitSeq(manifest, "\n") {
		if head := regexp.MustCompile(`^\[(.+)\]$`).FindStringSubmatch(line); head != nil {
			mine = strings.Contains(head[1], "QM-8T")
			continue
		}
		if f := strings.Fields(line); mine && len(f) > 2 {
			ask(at + f[1])
			fetched++
		}
	}
	assert.Equal(t, 6, fetched, "the images of all revisions: the device picks its own")
	for _, n := range names {
		assert.NotContains(t, n, "qm24t", "nothing for another model")
	}
}
