// Package e2e drives the built program on files in a temporary folder, the
// way a user would.
package e2e

import (
	"bytes"
	"encoding/binary"
	"hash/crc32"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/e2e/program"
	_ "fitcheck/internal/cli" // what the program is built from: a change there makes results of earlier runs stale
)

func TestMain(m *testing.M) { os.Exit(program.Main(m)) }

// A flipped bit anywhere in the chosen image, header or payload, makes a
// misfit that names the checksum, also where no digest was published.
func TestFlippedBit(t *testing.T) {
	t.Parallel()
	kit := program.WriteKit(t)
	files := program.Unzip(t, kit, "qm-tram-8.4.2.zip")
	delete(files, "qm-tram-8.4.2/qm.sha256")
	rules, err := os.ReadFile(filepath.Join(kit, "rulebooks/quillmere.yaml"))
	require.NoError(t, err)
	rules = bytes.Replace(rules, []byte("    checksums: '**/*.sha256'\n"), nil, 1)
	rules = bytes.Replace(rules, []byte("    signature: {item: '**/*_manifest.sig', of: manifest, key: quillmere.pem}\n"), nil, 1)
	program.Write(t, kit, "rulebooks/quillmere.yaml", bytes.Replace(rules, []byte("(?P<sha256>[0-9a-f]{64})"), []byte("[0-9a-f]{64}"), 1))
	program.Write(t, kit, "packages/qm-tram-8.4.2.zip", program.ZipOf(t, files))
	require.Equal(t, 0, program.Call(t, kit, "match", "-device", "cabinet-07", "qm-tram-8.4.2.zip").Status)
	const name = "qm-tram-8.4.2/qm8t-a.img"
	good := files[name]
	for _, at := range []int{0, 5, 25, 31, 45, 63, 64, len(good) / 2, len(good) - 1} {
		bad := bytes.Clone(good)
		bad[at] ^= 1 << (at % 8)
		files[name] = bad
		program.Write(t, kit, "packages/qm-tram-8.4.2.zip", program.ZipOf(t, files))
		r := program.Call(t, kit, "match", "-device", "cabinet-07", "qm-tram-8.4.2.zip")
		require.Equal(t, 1, r.Status, "byte %d\n%s", at, r.Out)
		require.Contains(t, r.Out, "crc32 does not match", "byte %d", at)
	}
}

// A file that is only renamed is never a fit.
func TestRenamed(t *testing.T) {
	t.Parallel()
	kit := program.WriteKit(t)
	img := program.Unzip(t, kit, "qm-tram-8.4.2.zip")["qm-tram-8.4.2/qm24t.img"]
	for _, name := range []string{"QM-8T-8.4.2.img", "qm-tram-8.4.2.zip", "qm8t-a.img", "x.bin"} {
		dir := t.TempDir()
		p := program.Write(t, dir, name, img)
		r := program.Call(t, dir, "match", "-kit", kit, "-device", "cabinet-07", p)
		assert.NotEqual(t, 0, r.Status, "%s\n%s", name, r.Out)
		assert.Contains(t, r.Out, "QM-24T")
	}
}

// uimage builds a U-Boot legacy image with right checksums.
func uimage(arch byte, title string, payload []byte) []byte {
	h := make([]byte, 64)
	binary.BigEndian.PutUint32(h[0:], 0x27051956)
	binary.BigEndian.PutUint32(h[12:], uint32(len(payload)))
	binary.BigEndian.PutUint32(h[24:], crc32.ChecksumIEEE(payload))
	h[28], h[29], h[30] = 5, arch, 2
	copy(h[32:], title)
	binary.BigEndian.PutUint32(h[4:], crc32.ChecksumIEEE(h))
	return append(h, payload...)
}
