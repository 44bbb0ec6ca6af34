package plan

import (
	_ "embed"

	"fitcheck/core/fit/check"
)

//go:embed examples.txt
var examplesText string

func init() { check.AddExamples(examplesText) }
