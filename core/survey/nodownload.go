package survey

import (
	"path"
	"slices"
	"strings"

	"fitcheck/core/archive"
	"fitcheck/core/image"
)

const downloadAgain = "download it again, and look at the file's size and first bytes before you trust it"

// noDownloads are the kinds of files that come about when a download fails.
var noDownloads = map[string]struct{ what, advice string }{
	"empty": {"the file is empty", downloadAgain},
	"blank": {"every byte is FF, as in erased flash", downloadAgain},
	"zeros": {"every byte is zero", downloadAgain},
	"html":  {"it is an HTML page, as a portal gives when the session has ended", "log in to the maker's portal and download it again"},
}

// judgeFiles says of the files of a folder that are named as archives or images, and are what a failed download leaves.
func (s *Survey) judgeFiles(formats *image.Set) {
	for _, it := range s.Items {
		said, ok := noDownloads[it.Kind]
		if !ok || strings.Count(it.Address, "::") != 1 || len(it.Damage()) > 0 {
			continue
		}
		if promised := formats.OfSuffix(strings.ToLower(path.Ext(it.Name))); len(promised) > 0 && !slices.Contains(promised, it.Kind) {
			it.Problems = append(it.Problems, archive.Problem{Item: it.Address, Class: archive.Damaged, What: NotFirmware + said.what, Advice: said.advice})
		}
	}
}
