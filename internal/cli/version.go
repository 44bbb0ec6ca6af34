package cli

import (
	"context"
	"flag"
	"fmt"
	"runtime"

	"fitcheck/internal/present"
)

// Version of the program.
const Version = "0.1.0"

var versionCommand = &command{
	name: "version", short: "which fitcheck is this?", tells: true,
	part: partRest, example: "version",
	setup: func(*flag.FlagSet) func(context.Context, *call, []string) (int, error) {
		return func(_ context.Context, c *call, args []string) (int, error) {
			if len(args) > 0 {
				return 0, usagef("version takes no arguments")
			}
			if c.json {
				return exitFits, present.WriteJSON(c.env.Stdout, present.VersionJSON(Version, runtime.Version()))
			}
			fmt.Fprintf(c.env.Stdout, "fitcheck %s, built with %s\n", Version, runtime.Version())
			return exitFits, nil
		}
	},
}
