//go:build unix

package index

import (
	"io/fs"
	"syscall"
)

// inode is the number of a file in its file system.
func inode(info fs.FileInfo) uint64 {
	if s, ok := info.Sys().(*syscall.Stat_t); ok {
		return uint64(s.Ino)
	}
	return 0
}
