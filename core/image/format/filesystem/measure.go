package filesystem

import (
	"context"
	"errors"
	"io/fs"

	"fitcheck/core/archive"
	"fitcheck/core/content"
	"fitcheck/core/image"
)

// How far files of formats reach whose headers do not say it, or whose magics are so short
// that they stand anywhere: by their whole structure, or by checksums all over them. Each
// gives 0 for what is none.

// measureFiles lists the files of a file system: all of its folders must make sense. size is
// what its header announces.
func measureFiles(format string, size func(head []byte) int64) func(c *archive.Content) (int64, error) {
	return func(c *archive.Content) (int64, error) {
		head, err := image.Head(c)
		if err != nil {
			return 0, archive.OnlyFatal(err)
		}
		n := size(head)
		if n <= 0 || n > c.Size() {
			return 0, nil
		}
		fsys, err := content.Open(format, c.Section(0, n), n)
		if err != nil {
			return 0, archive.OnlyFatal(err)
		}
		entries := 0
		err = fsys.Walk(context.Background(), func(f *content.File) error {
			if entries++; f.Err != nil || f.Mode&fs.ModeIrregular != 0 {
				return errors.New("damaged")
			}
			return nil
		})
		if err != nil || entries == 0 && format != "ext" { // which has lost+found, at least
			return 0, archive.OnlyFatal(err)
		}
		return n, nil
	}
}
