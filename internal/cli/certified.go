package cli

import (
	"context"
	"runtime"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"fitcheck/core/certified"
	"fitcheck/core/device"
	"fitcheck/core/fault"
	"fitcheck/core/fit"
	"fitcheck/core/path"
	"fitcheck/core/rulebook"
	"fitcheck/core/spelling"
	"fitcheck/internal/present"
)

// runCertified holds what devices run against a certified set, and finds the way there for
// those that are not on it.
func (m *matching) runCertified(ctx context.Context, c *call) (int, error) {
	var err error
	if m.k, err = c.kit(); err != nil {
		return 0, err
	}
	set := m.k.Certified(m.certified)
	if !slices.Contains(set.Known, set.Name) {
		return 0, noSuchSet(set)
	}
	devices, err := m.k.Devices(m.devices)
	if err != nil {
		return 0, err
	}
	results := make([]*certified.Result, len(devices))
	group, _ := errgroup.WithContext(ctx)
	group.SetLimit(runtime.GOMAXPROCS(0))
	for i, d := range devices {
		found, err := m.k.RulebooksFor(d)
		if err != nil {
			return 0, err
		}
		rules := func(model string) *rulebook.Rulebook { return found[model] }
		group.Go(func() (err error) {
			defer fault.Catch(&err)
			results[i] = certified.Judge(d, rules, set)
			if s := results[i].State; s == certified.Below || s == certified.Beyond {
				results[i].Takes, err = path.Find(path.Request{Device: d, Rules: rules, Goal: path.Goal{Version: "certified:" + set.Name, Set: set},
					Options: path.Options{Plain: true, NoRulebook: func(d *device.Device) string { return noRulebook(m.k, d) }}})
			}
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return 0, err
	}
	status := map[fit.Outcome]int{fit.Fits: exitFits, fit.Misfit: exitMisfit, fit.Unsettled: exitUnsettled}[present.CertifiedVerdict(results)]
	return status, c.tell(present.CertifiedJSON(results), present.CertifiedPage(results))
}

func noSuchSet(set *rulebook.CertifiedSet) error {
	if near := spelling.Nearest(set.Name, set.Known); near != "" {
		return usagef("no rulebook of the kit has a certified set %q; did you mean %s?", set.Name, near)
	}
	if len(set.Known) == 0 {
		return usagef("the kit's rulebooks have no certified sets; add certified: to one")
	}
	return usagef("no rulebook of the kit has a certified set %q; there are %s", set.Name, strings.Join(set.Known, ", "))
}
