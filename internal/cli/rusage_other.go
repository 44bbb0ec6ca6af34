//go:build !unix

package cli

import "time"

// processorTime is not told here; the clock alone bounds the process.
func processorTime() (time.Duration, bool) { return 0, false }
