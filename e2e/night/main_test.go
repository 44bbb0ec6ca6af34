// Package night drives the built program through the nights that it is made for: paths,
// stages, runbooks, confirmation, recovery.
package night

import (
	"os"
	"testing"

	"fitcheck/e2e/program"
)

func TestMain(m *testing.M) { os.Exit(program.Main(m)) }
