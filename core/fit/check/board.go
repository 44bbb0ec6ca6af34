package check

import "fitcheck/core/fact"

var _ = respect(fact.Board, 90, 300, "board")
