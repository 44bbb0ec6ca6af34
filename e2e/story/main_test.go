// Package story drives the built program through the story of the demo kit, and from
// what a device says of itself to a verdict.
package story

import (
	"os"
	"testing"

	"fitcheck/e2e/program"
)

func TestMain(m *testing.M) { os.Exit(program.Main(m)) }
