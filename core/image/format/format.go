// Package format brings together the image formats that this program knows. Each is one file in
// the room of its kind, which registers it:
//
//	boot        what boot loaders take and kernels are: uImage, FIT, device trees, ELF, PE …
//	filesystem  SquashFS, JFFS2, UBI, ext, EROFS, FAT …; their files package content reads
//	disk        tables of partitions
//	update      containers made for updates: UEFI capsules, PLDM, DFU, RPM, hex records …
//	stream      compressed streams and archives, by their own headers
//
// Documents that are no firmware are told by package image itself.
package format

import (
	"fitcheck/core/image"

	_ "fitcheck/core/image/format/boot"
	_ "fitcheck/core/image/format/disk"
	_ "fitcheck/core/image/format/filesystem"
	_ "fitcheck/core/image/format/stream"
	_ "fitcheck/core/image/format/update"
)

// Builtin is the set of all formats that the program knows without layouts.
func Builtin() *image.Set { return image.Registered() }
