//go:build !unix

package index

import "io/fs"

// inode is the number of a file in its file system; 0 where there is none.
func inode(fs.FileInfo) uint64 { return 0 }
