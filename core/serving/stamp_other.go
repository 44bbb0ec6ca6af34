//go:build !linux

package serving

import "os"

// stampFrom takes what changes with a file.
func stampFrom(info os.FileInfo) stamp { return stamp{size: info.Size(), modified: info.ModTime()} }
