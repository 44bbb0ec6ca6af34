package cli

import (
	"context"
	"flag"
	"fmt"

	"fitcheck/core/archive"
	"fitcheck/core/device"
	"fitcheck/core/fit"
	"fitcheck/core/kit"
	"fitcheck/core/rulebook"
	"fitcheck/core/survey"
	"fitcheck/internal/present"
)

var matchCommand = &command{
	name: "match", args: "-device D PACKAGE", tells: true, reads: true,
	short: "does it fit this device?",
	long: `D is a device file, or the name of one in the kit's devices/. PACKAGE is an archive, a
bare image or a folder, or the name of one in the kit's packages/. The verdict is fits,
misfit or unsettled; it never says "fits" on a guess, and each line of it cites where
both sides of the comparison were read. The exit status is 0, 1 or 3.`,
	setup: func(f *flag.FlagSet) func(context.Context, *call, []string) (int, error) {
		name := f.String("device", "", "the `device`: a file, or a name in the kit's devices/")
		trust := f.Bool("trust-names", false, "accept what only file and folder names say; the verdict says so")
		expect := expectFlag(f)
		quick := quickFlag(f)
		return func(ctx context.Context, c *call, args []string) (int, error) {
			switch {
			case *name == "":
				return 0, usagef("match needs -device: a device file, or a name in the kit's devices/")
			case len(args) != 1:
				return 0, usagef("match takes one package, and %d are given", len(args))
			}
			c.quick = *quick
			k, err := c.kit()
			if err != nil {
				return 0, err
			}
			v, err := c.match(ctx, k, *name, args[0], *expect, *trust)
			if err != nil {
				return 0, err
			}
			if c.json {
				err = present.WriteJSON(c.env.Stdout, present.MatchJSON(v))
			} else {
				c.screen().Match(v)
			}
			return statusOf(v.Verdict), err
		}
	},
}

func (c *call) match(ctx context.Context, k *kit.Kit, name, pkg string, expect digests, trust bool) (*fit.Verdict, error) {
	d, err := k.Device(name)
	if err != nil {
		return nil, err
	}
	rb, err := k.RulebookFor(d.Model.Text)
	if err != nil {
		return nil, err
	}
	s, err := c.survey(ctx, k, pkg, rb, expect)
	if err != nil {
		return nil, err
	}
	if err := denied(s); err != nil {
		return nil, err
	}
	return fit.Match(d, rb, s, fit.Options{TrustNames: trust, NoRulebook: noRulebook(k, d, rb)}), nil
}

// denied refuses a package of which the system would not open a part: no
// verdict can speak for what was not read.
func denied(s *survey.Survey) error {
	for _, p := range s.Problems {
		if p.Class == archive.Denied {
			return fmt.Errorf("%s: %s; %s", p.Item, p.What, p.Advice)
		}
	}
	return nil
}

// noRulebook says why no rulebook knows the device.
func noRulebook(k *kit.Kit, d *device.Device, rb *rulebook.Rulebook) string {
	switch {
	case rb != nil:
		return ""
	case len(k.Rulebooks) == 0:
		return fmt.Sprintf("the kit %s has no rulebooks; name another with -kit, or write one", k.Dir)
	case !d.Model.Set():
		return "add model: to " + d.File
	}
	return fmt.Sprintf("no rulebook in %s/rulebooks knows the model %s; correct the model in %s or add it to a rulebook", k.Dir, d.Model.Text, d.File)
}
