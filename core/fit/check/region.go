package check

import "fitcheck/core/fact"

var _ = respect(fact.Region, "other", 110, 50, "region")
