package path

import (
	"fmt"
	"slices"

	"fitcheck/core/rulebook"
)

// guessed keeps guesses of a rulebook from deciding: a way that rests on one is none yet, and
// that there is none is not known, either.
func (f *finder) guessed(a *Answer, boxes []*Box) {
	if len(a.Unsettled) > 0 || a.Found && len(a.Hops) == 0 {
		return
	}
	for _, b := range boxes {
		if b.Rules == nil || len(a.Members) > 0 && !slices.Contains(a.Members, b.Device.Name.Text) {
			continue
		}
		var of []*rulebook.Release
		for _, h := range a.Hops {
			of = append(of, h.Releases...)
		}
		if !a.Found { // any release might have been one of the way
			for i := range b.Rules.Releases {
				of = append(of, &b.Rules.Releases[i])
			}
		}
		why := b.Rules.Guess(b.Model, b.Family, nil, of...)
		if why == (rulebook.Guess{}) {
			continue
		}
		a.Unsettled = append(a.Unsettled, fmt.Sprintf("%s, and the way rests on it: hold it against the release notes, correct it, and take its GUESS away", why))
		if a.Found {
			a.Maybe, a.Hops, a.Found = a.Hops, nil, false
			a.Back, a.Alternatives = nil, nil
		}
		a.Blocked = nil
		return
	}
}
