package check

import "fitcheck/core/fact"

var _ = respect(fact.Hypervisor, "other", 135, 50, "hypervisor")
