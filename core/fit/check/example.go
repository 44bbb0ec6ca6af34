package check

import (
	_ "embed"
	"strings"
	"sync"
)

// Shown is what a test made a check say.
type Shown struct{ When, Says string }

//go:embed examples.txt
var examplesText string

var (
	examplesMu sync.Mutex
	examples   map[string]Shown
)

// Example is one of a reason; tests hold that there is one of each, and that it is
// what the check says.
func Example(code string) Shown {
	examplesMu.Lock()
	defer examplesMu.Unlock()
	load()
	return examples[code]
}

// AddExamples adds examples of reasons that are registered elsewhere, a line each:
// code, when, and what it says, with tabs between.
func AddExamples(text string) {
	examplesMu.Lock()
	defer examplesMu.Unlock()
	load()
	readExamples(text)
}

func load() {
	if examples == nil {
		examples = map[string]Shown{}
		readExamples(examplesText)
	}
}

func readExamples(text string) {
	for line := range strings.Lines(text) {
		if f := strings.SplitN(strings.TrimSuffix(line, "\n"), "\t", 3); len(f) == 3 {
			examples[f[0]] = Shown{f[1], f[2]}
		}
	}
}
