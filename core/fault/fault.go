// Package fault turns a panic into an error, so that a fault of the program never
// shows its stack to a user, on whatever goroutine it comes.
package fault

import (
	"fmt"
	"runtime/debug"
)

// Error is a fault of the program itself.
type Error struct {
	Value any
	Stack []byte // for the log
}

func (e *Error) Error() string { return fmt.Sprintf("a fault of the program itself: %v", e.Value) }

// Catch is deferred: it turns a panic into an error.
func Catch(err *error) {
	if v := recover(); v != nil {
		*err = &Error{v, debug.Stack()}
	}
}

// Do calls a function, and turns a panic in it into an error.
func Do(do func() error) (err error) {
	defer Catch(&err)
	return do()
}
