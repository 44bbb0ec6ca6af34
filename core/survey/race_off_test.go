//go:build !race

package survey

const underRace = false
