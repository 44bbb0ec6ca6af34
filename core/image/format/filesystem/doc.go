// Package filesystem reads the headers of file systems, and how far they reach. Their files package
// content reads.
package filesystem

import "fitcheck/core/image"

func register(f *image.Format) {
	f.Room = image.FileSystem
	image.Register(f)
}
