// Package boot reads what boot loaders take and what they start: uImage, FIT, TRX, device trees,
// kernels, ELF and PE programs.
package boot
