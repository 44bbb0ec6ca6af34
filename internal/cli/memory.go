package cli

import (
	"runtime/debug"
	"runtime/metrics"
	"time"
)

// Memory that a survey takes before garbage is collected at once: leastMemory, or a little above what is in use; and
// mostMemory where much is, since held down to what is used, the program would do nothing but collect. Left alone, the
// runtime lets the heap grow to twice what is used.
const (
	leastMemory = 56 << 20
	spareMemory = 10 << 20 // above what is in use
	muchMemory  = 84 << 20 // in use
	mostMemory  = 136 << 20
)

// sparing keeps memory small until what it returns is called.
func sparing() (stop func()) {
	before := debug.SetMemoryLimit(leastMemory)
	done := make(chan struct{})
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		now := time.NewTicker(50 * time.Millisecond)
		defer now.Stop()
		inUse := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
		for {
			select {
			case <-done:
				return
			case <-now.C:
				metrics.Read(inUse)
				limit := int64(mostMemory)
				if live := int64(inUse[0].Value.Uint64()); live < muchMemory {
					limit = max(leastMemory, live+spareMemory)
				}
				debug.SetMemoryLimit(limit)
			}
		}
	}()
	return func() {
		close(done)
		<-ended
		debug.SetMemoryLimit(before)
	}
}
