// Package disk reads the partition tables of disks.
package disk

import "fitcheck/core/image"

func register(f *image.Format) {
	f.Room = image.Disk
	image.Register(f)
}
