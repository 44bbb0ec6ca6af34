// Package night drives the built program through the nights it is made for:
// the story of the demo kit, devices, paths, stages, runbooks, recovery.
package night

import (
	"os"
	"testing"

	"fitcheck/e2e/program"
)

func TestMain(m *testing.M) { os.Exit(program.Main(m)) }
