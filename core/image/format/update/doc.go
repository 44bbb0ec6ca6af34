// Package update reads containers made for updates: UEFI capsules, PLDM packages, DFU suffixes, RPM
// packages, hex records and UF2.
package update

import "fitcheck/core/image"

func register(f *image.Format) {
	f.Room = image.Update
	image.Register(f)
}
