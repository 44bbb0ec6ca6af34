package survey

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"fitcheck/core/archive"
	"fitcheck/core/image"
)

// suffix notes a suffix that the content belies.
func (it *Item) suffix(formats *image.Set) {
	ext := strings.ToLower(path.Ext(it.Name))
	promised := formats.OfSuffix(ext)
	if len(promised) == 0 || slices.Contains(promised, it.Kind) || it.Kind == "empty" {
		return
	}
	it.Problems = append(it.Problems, archive.Problem{Item: it.Address, Class: archive.Note,
		What: fmt.Sprintf("its name ends in %s, and its content is of the kind %s", ext, it.Kind)})
}
