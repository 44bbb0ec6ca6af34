package path

import "fitcheck/core/fit/check"

// What may be against a move. A match gives most of these reasons, too; the others
// only a search has.
var (
	pathAvoided           = check.Find("path").Code("avoided", check.Misfit, "of a way: the release is one of those to be avoided", "it is to be avoided", "ask again without -avoid")
	pathNotAtHand         = check.Find("path").Code("not_at_hand", check.Misfit, "of a way: only releases at hand may be used, and no package at hand carries this one", "no package at hand carries it", "download it, and put it into the kit")
	pathCertified         = check.Find("path").Code("not_certified", check.Misfit, "of a way to a certified set: the release can be reached, and another component is then not the version that the set wants", "it would run boot 3.1.4, and the certified set wants >=3.2", "install what brings that component, or ask who keeps the set whether this version is certified, too")
	attachedDropped       = named("attached.dropped")
	attachedGuessed       = named("attached.guessed")
	attachedNotComparable = named("attached.not_comparable")
	entitledEnded         = named("entitled.ended")
	entitledIdle          = named("entitled.not_active")
	entitledEarly         = named("entitled.before")
	entitledGuessed       = named("entitled.guessed")
	entitledNoDate        = named("entitled.no_date")
	needsBuildUnknown     = named("needs.build_unknown")
	needsDeviceUnknown    = named("needs.device_unknown")
	needsFails            = named("needs.fails")
	needsRuleFault        = named("needs.rule_fault")
	pathForbidden         = named("path.forbidden")
	pathNotForIt          = named("path.not_for_it")
	pathNotListed         = named("path.not_listed")
	pathNotSettled        = named("path.not_settled")
	pathRevisionsOpen     = named("path.revisions_open")
	pathRuleFault         = named("path.rule_fault")
	versionBootUnknown    = named("version.boot_unknown")
	versionOlderBoot      = named("version.older_boot")
	withdrawnIs           = named("withdrawn.withdrawn")
)

// named finds a reason that a check gives.
func named(code string) *check.Code {
	if c := check.Explain(code); c != nil {
		return c
	}
	panic("path: no check gives the reason " + code)
}
