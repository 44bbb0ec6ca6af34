package check

import "fitcheck/core/fact"

var _ = respect(fact.Board, "board", 90, 300, "board")
