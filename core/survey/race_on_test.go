//go:build race

package survey

// underRace: the race detector makes everything ten times slower, and needs each way through once only.
const underRace = true
