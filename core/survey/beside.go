package survey

import (
	"io"
	"os"
	"path/filepath"
	"strings"

	"fitcheck/core/fact"
	"fitcheck/core/manifest"
)

// besideSuffixes are those of checksum files that lie beside a download.
var besideSuffixes = []string{".md5", ".sha1", ".sha256", ".sha384", ".sha512", ".crc32", ".md5sum", ".sha1sum", ".sha256sum", ".sha512sum"}

// maxBeside is how much of such a file is read.
const maxBeside = 1 << 20

// readBeside takes the digests that a checksum file beside the download gives
// for it. What cannot be read there is as good as not there: nobody said that
// it belongs to the package.
func (s *Survey) readBeside(root *Item) {
	for _, suffix := range besideSuffixes {
		for _, p := range []string{s.Path + suffix, strings.TrimSuffix(s.Path, filepath.Ext(s.Path)) + suffix} {
			data := readSmall(p)
			if data == nil {
				continue
			}
			for _, e := range manifest.ReadBeside(p, data, s.Name) {
				root.Published = append(root.Published, Published{Sum: e.Sum, Source: fact.Source{Kind: fact.Checksums, File: filepath.Base(p), Line: e.Line}})
			}
			if filepath.Ext(s.Path) == "" {
				break // both names are one
			}
		}
	}
}

func readSmall(path string) []byte {
	info, err := os.Stat(path)
	if err != nil || !info.Mode().IsRegular() || info.Size() > maxBeside {
		return nil
	}
	f, err := os.Open(path)
	if err != nil {
		return nil
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, maxBeside))
	if err != nil {
		return nil
	}
	return data
}
