package check

import "fitcheck/core/fact"

var _ = respect(fact.Platform, 120, 50, "platform")
