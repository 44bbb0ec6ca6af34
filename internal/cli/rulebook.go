package cli

import (
	"context"
	"errors"
	"flag"

	"fitcheck/core/kit"
	"fitcheck/internal/present"
)

var rulebookCommand = &command{
	name: "rulebook", args: "check FILE…", tells: true,
	short: "is this rulebook, layout or device file sound?",
	long: `Reads files that people write and says all that is wrong with them, each with its
line, column and what to do. The exit status is 0 when they are sound, 1 when not, 4
when one cannot be opened.`,
	setup: func(*flag.FlagSet) func(context.Context, *call, []string) (int, error) {
		return func(_ context.Context, c *call, args []string) (int, error) {
			if len(args) < 2 || args[0] != "check" {
				return 0, usagef("write rulebook check, and the files to check")
			}
			var files []present.CheckedFile
			status := exitFits
			for _, path := range args[1:] {
				kind, err := kit.Read(path)
				f := present.CheckedFile{Path: path, Kind: kind}
				if err != nil && !errors.As(err, &f.Errors) {
					return 0, err
				}
				if len(f.Errors) > 0 {
					status = exitMisfit
				}
				files = append(files, f)
			}
			if c.json {
				return status, present.WriteJSON(c.env.Stdout, present.CheckedJSON(files))
			}
			c.screen().Checked(files)
			return status, nil
		}
	},
}
