package survey

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"fitcheck/core/archive"
)

// suffixes lists the kinds that the suffix of a name promises. What a file is
// goes by its content alone; a suffix that says otherwise is worth a note.
var suffixes = map[string][]string{
	".zip": {"zip"}, ".tar": {"tar"}, ".gz": {"gzip"}, ".tgz": {"gzip"}, ".bz2": {"bzip2"}, ".tbz2": {"bzip2"}, ".xz": {"xz"}, ".txz": {"xz"}, ".lzma": {"lzma"},
	".lz4": {"lz4"}, ".zst": {"zstd"}, ".cpio": {"cpio"}, ".7z": {"7z"}, ".ar": {"ar"}, ".deb": {"ar"}, ".iso": {"iso9660"}, ".squashfs": {"squashfs"}, ".sqsh": {"squashfs"}, ".sqfs": {"squashfs"},
	".itb": {"fit"}, ".dtb": {"dtb"}, ".dtbo": {"dtb"}, ".trx": {"trx"}, ".elf": {"elf"}, ".efi": {"pe"}, ".cap": {"uefi-capsule"}, ".uf2": {"uf2"}, ".dfu": {"dfu"},
	".ubi": {"ubi"}, ".ubifs": {"ubifs"}, ".pdf": {"pdf"}, ".json": {"json"}, ".xml": {"xml"}, ".html": {"html"}, ".srec": {"srec"}, ".ihex": {"ihex"},
}

// suffix notes a suffix that the content belies.
func (it *Item) suffix() {
	ext := strings.ToLower(path.Ext(it.Name))
	promised, known := suffixes[ext]
	if !known || slices.Contains(promised, it.Kind) || it.Kind == "empty" {
		return
	}
	it.Problems = append(it.Problems, archive.Problem{Item: it.Address, Class: archive.Note,
		What: fmt.Sprintf("its name ends in %s, and its content is of the kind %s", ext, it.Kind)})
}
