// Package stream reads the headers of compressed streams and archives. What they hold package archive
// opens.
package stream

import "fitcheck/core/image"

func register(f *image.Format) {
	f.Room = image.Stream
	image.Register(f)
}
