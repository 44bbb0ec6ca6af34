package check

import "fitcheck/core/fact"

var _ = respect(fact.Platform, "other", 120, 50, "platform")
