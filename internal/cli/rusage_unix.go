//go:build unix

package cli

import (
	"syscall"
	"time"
)

// processorTime is how long this process has kept a processor busy.
func processorTime() (time.Duration, bool) {
	var r syscall.Rusage
	if syscall.Getrusage(syscall.RUSAGE_SELF, &r) != nil {
		return 0, false
	}
	return time.Duration(r.Utime.Nano() + r.Stime.Nano()), true
}
