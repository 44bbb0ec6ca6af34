package cli

import (
	"context"
	"flag"
	"strings"

	"fitcheck/core/fit/check"
	"fitcheck/internal/present"
)

var _ = register(&command{
	name: "explain", order: 150, args: "[CODE]", tells: true,
	part: partRules, example: "explain revision.excluded",
	short: "what does this reason mean, when is it given, what settles it?",
	long: `CODE is the name of a reason, as JSON documents and reports give it (revision.excluded), or of
a check (revision): then all its reasons are told. Without CODE all of them are listed.`,
	setup: func(*flag.FlagSet) func(context.Context, *call, []string) (int, error) {
		return func(_ context.Context, c *call, args []string) (int, error) {
			if len(args) > 1 {
				return 0, usagef("explain takes one code, and %d are given", len(args))
			}
			codes, err := explained(args)
			if err != nil {
				return 0, err
			}
			return exitFits, c.tell(present.CodesJSON(codes), present.CodesPage(codes, len(codes) > 1))
		}
	},
})

// explained lists the reasons that are asked for.
func explained(args []string) ([]*check.Code, error) {
	if len(args) == 0 {
		return check.Codes(), nil
	}
	if k := check.Explain(args[0]); k != nil {
		return []*check.Code{k}, nil
	}
	if ch := check.Find(args[0]); ch != nil {
		return ch.Codes, nil
	}
	advice := "fitcheck explain lists them all"
	if name, _, ok := strings.Cut(args[0], "."); ok && check.Find(name) != nil {
		advice = "fitcheck explain " + name + " lists those of that check"
	}
	return nil, usagef("there is no reason %q; %s", args[0], advice)
}
