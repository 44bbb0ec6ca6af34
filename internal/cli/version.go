package cli

import (
	"context"
	"flag"
	"fmt"
	"runtime"
	"runtime/debug"

	"fitcheck/internal/present"
)

// Version of the program.
const Version = "0.1.0"

var _ = register(&command{
	name: "version", order: 190, short: "which fitcheck is this?", tells: true,
	part: partRest, example: "version",
	setup: func(*flag.FlagSet) func(context.Context, *call, []string) (int, error) {
		return func(_ context.Context, c *call, args []string) (int, error) {
			if len(args) > 0 {
				return 0, usagef("version takes no arguments")
			}
			b := builtFrom()
			if c.json {
				return exitFits, present.WriteJSON(c.env.Stdout, present.VersionJSON(Version, runtime.Version(), b))
			}
			fmt.Fprintf(c.env.Stdout, "fitcheck %s, built with %s%s\n", Version, runtime.Version(), b.Text())
			return exitFits, nil
		}
	},
})

// builtFrom is the commit that the program was built from, as the build recorded it; the zero
// value where it was built outside version control.
func builtFrom() present.Commit {
	var out present.Commit
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return out
	}
	for _, s := range info.Settings {
		switch s.Key {
		case "vcs.revision":
			out.Revision = s.Value
		case "vcs.time":
			out.Date = s.Value
		case "vcs.modified":
			out.Modified = s.Value == "true"
		}
	}
	return out
}
