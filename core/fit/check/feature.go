package check

import "fitcheck/core/fact"

var _ = respect(fact.Feature, "other", 130, 50, "feature")
