// Package boot reads what boot loaders take and what they start: uImage, FIT, TRX, device trees,
// kernels, ELF and PE programs.
package boot

import "fitcheck/core/image"

func register(f *image.Format) {
	f.Room = image.Boot
	image.Register(f)
}
