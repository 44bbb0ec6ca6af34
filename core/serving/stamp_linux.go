package serving

import (
	"os"
	"syscall"
)

// stampFrom takes what changes with a file. The time at which the inode changed cannot be set
// by a program, as the time of the last change of the content can.
func stampFrom(info os.FileInfo) stamp {
	s := stamp{size: info.Size(), modified: info.ModTime()}
	if sys, ok := info.Sys().(*syscall.Stat_t); ok {
		s.inode, s.changed = sys.Ino, sys.Ctim.Nano()
	}
	return s
}
