package check

import "fitcheck/core/fact"

var _ = respect(fact.Feature, 130, 50, "feature")
