// Package present turns results into pages, and into JSON. It decides nothing.
package present

import (
	"fmt"
	"strings"
)

// Bytes writes a size for people.
func Bytes(n int64) string {
	switch {
	case n < 0:
		return "size not known"
	case n == 1:
		return "1 byte"
	case n < 1<<10:
		return fmt.Sprintf("%d bytes", n)
	case n < 1<<20:
		return fmt.Sprintf("%.1f KiB", float64(n)/(1<<10))
	case n < 1<<30:
		return fmt.Sprintf("%.1f MiB", float64(n)/(1<<20))
	}
	return fmt.Sprintf("%.1f GiB", float64(n)/(1<<30))
}

// within shortens an address inside the package to what follows the
// package's name.
func within(pkg, where string) string {
	if rest, ok := strings.CutPrefix(where, pkg+"::"); ok {
		return "::" + rest
	}
	return where
}
