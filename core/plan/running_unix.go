//go:build unix

package plan

import (
	"errors"
	"syscall"
)

// running tells whether there is a process of a number.
func running(pid int) bool {
	err := syscall.Kill(pid, 0)
	return err == nil || errors.Is(err, syscall.EPERM)
}
