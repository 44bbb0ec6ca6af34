package check

import "fitcheck/core/fact"

var _ = respect(fact.Region, 110, 50, "region")
