//go:build !unix

package plan

// running cannot be told here: nothing is swept.
func running(int) bool { return true }
