package fit

import (
	"flag"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"

	"fitcheck/core/fit/check"
)

// said are the reasons that scenes made the checks give, each with the scene of the
// first name.
var (
	saidMu sync.Mutex
	said   = map[string]check.Shown{}
)

// record keeps the reasons of a scene.
func record(name string, v *Verdict) {
	if name == "" {
		return
	}
	saidMu.Lock()
	defer saidMu.Unlock()
	for c := range v.All() {
		if had, ok := said[c.Code]; !ok || name < had.When {
			said[c.Code] = check.Shown{When: name, Says: c.Because}
		}
	}
}

const shownFile = "check/examples.txt"

// The examples of reasons that explain and docs/codes.md show are what scenes made the
// checks say. That each reason has one is held where all commands are at hand.
func TestMain(m *testing.M) {
	status := m.Run()
	if status == 0 && flag.Lookup("test.run").Value.String() == "" && flag.Lookup("test.fuzz").Value.String() == "" && flag.Lookup("test.list").Value.String() == "" && flag.Lookup("test.skip").Value.String() == "" {
		status = holdCodes()
	}
	os.Exit(status)
}

func holdCodes() int {
	var b strings.Builder
	status := 0
	for _, code := range slices.Sorted(maps.Keys(said)) {
		fmt.Fprintf(&b, "%s\t%s\t%s\n", code, said[code].When, strings.ReplaceAll(said[code].Says, "\n", " "))
	}
	if *update {
		if err := os.WriteFile(shownFile, []byte(b.String()), 0o644); err != nil {
			fmt.Println(err)
			return 1
		}
		return status
	}
	have, err := os.ReadFile(shownFile)
	if err != nil || string(have) != b.String() {
		fmt.Printf("%s is out of date: go test ./core/fit -update\n", shownFile)
		return 1
	}
	return status
}
