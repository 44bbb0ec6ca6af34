package cli

import (
	"context"
	"flag"
	"fmt"
	"io"
	"strings"

	"fitcheck/core/archive"
)

var helpCommand = &command{name: "help", args: "[COMMAND]", short: "what can fitcheck do, and how is a command used?"}

func init() {
	helpCommand.setup = func(*flag.FlagSet) func(context.Context, *call, []string) (int, error) {
		return func(_ context.Context, c *call, args []string) (int, error) {
			if len(args) == 0 {
				overview(c.env.Stdout)
				return exitFits, nil
			}
			for _, cmd := range commands() {
				if cmd.name == args[0] {
					cmd.help(c.env.Stdout)
					return exitFits, nil
				}
			}
			return 0, usagef("there is no command %q", args[0])
		}
	}
}

func overview(w io.Writer) {
	fmt.Fprint(w, `Fit Check tells whether a firmware package fits a device: what is in it, whether it
is whole, which image is for this model and hardware revision, and whether the device
may go there. Every line of a verdict cites where both sides came from.

usage: fitcheck COMMAND [flags] ARGS

`)
	for _, cmd := range commands() {
		fmt.Fprintf(w, "  %-42s %s\n", cmd.name+" "+cmd.args, cmd.short)
	}
	fmt.Fprint(w, `
Exit status, the same everywhere:
  0    fits, or done
  1    misfit, or a check failed
  2    wrong usage
  3    unsettled: something that decides is not known
  4    an input could not be read, or was refused
  130  interrupted

"fitcheck help COMMAND" tells a command's flags. Try "fitcheck demo".
`)
}

func (cmd *command) help(w io.Writer) {
	fmt.Fprintf(w, "fitcheck %s %s\n\n%s\n", cmd.name, cmd.args, sentence(cmd.short))
	if cmd.long != "" {
		fmt.Fprintf(w, "\n%s\n", strings.TrimSpace(cmd.long))
	}
	f := flag.NewFlagSet(cmd.name, flag.ContinueOnError)
	if cmd.tells {
		f.Bool("json", false, "print one JSON document instead of text")
	}
	f.Bool("q", false, "no progress")
	f.String("kit", ".", "`folder` with rulebooks/ devices/ packages/ (or set FITCHECK_KIT)")
	f.String("log", "warn", "what to log on stderr: debug, info, warn or error")
	if cmd.reads {
		(&call{limits: archive.DefaultLimits()}).boundFlags(f)
	}
	cmd.setup(f)
	fmt.Fprintln(w, "\nFlags, before or after the arguments:")
	f.SetOutput(w)
	f.PrintDefaults()
}

func sentence(s string) string { return strings.ToUpper(s[:1]) + s[1:] }
