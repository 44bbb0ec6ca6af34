package cli

import (
	"context"
	"flag"
	"strings"

	"fitcheck/core/archive"
	"fitcheck/internal/present/page"
)

var helpCommand = register(&command{
	name: "help", order: 200, args: "[COMMAND]", part: partRest, example: "help match",
	short: "what can fitcheck do, and how is a command used?",
	long: `Without COMMAND it lists all commands in the order of the work; with one it tells what the
command does, its flags, and an example. -man writes the same as a manual page, as in
fitcheck help -man match | man -l -`,
})

// The parts of the work, in their order.
const (
	partDevice   = "Know the device"
	partDownload = "Look into the download"
	partDecide   = "Decide"
	partNight    = "Do it, and make sure"
	partRules    = "Rules and reasons"
	partRest     = "Try it, and the rest"
)

func init() {
	helpCommand.setup = func(f *flag.FlagSet) func(context.Context, *call, []string) (int, error) {
		man := f.Bool("man", false, "write it as a manual page")
		return func(_ context.Context, c *call, args []string) (int, error) {
			if len(args) > 1 {
				return 0, usagef("help takes one command, and %d are given", len(args))
			}
			if len(args) == 0 {
				if *man {
					overviewMan(c.env.Stdout)
				} else {
					c.show(overview())
				}
				return exitFits, nil
			}
			for _, cmd := range commands() {
				if cmd.name != args[0] {
					continue
				}
				if *man {
					cmd.man(c.env.Stdout)
				} else {
					c.show(cmd.help())
				}
				return exitFits, nil
			}
			return 0, noCommand(args[0])
		}
	}
	helpCommand.follows = func(*call, string) []string {
		var out []string
		for _, cmd := range commands() {
			out = append(out, cmd.name)
		}
		return out
	}
}

// about is what the program is, in two sentences.
const about = `Fit Check tells whether a firmware package fits a device: what is in it, whether it is whole,
which image is for this model and hardware revision, and whether the device may go there.
Every line of a verdict cites where both sides came from.`

// statuses are what a call ends with.
var statuses = []struct{ number, means string }{
	{"0", "fits, or done"},
	{"1", "misfit, or a check failed"},
	{"2", "wrong usage"},
	{"3", "unsettled: something that decides is not known"},
	{"4", "an input could not be read, or was refused"},
	{"130", "interrupted"},
}

// parts groups the commands, in the order of the work.
func parts() (names []string, of map[string][]*command) {
	of = map[string][]*command{}
	for _, cmd := range commands() {
		if of[cmd.part] == nil {
			names = append(names, cmd.part)
		}
		of[cmd.part] = append(of[cmd.part], cmd)
	}
	return names, of
}

// overview lists the commands.
func overview() *page.Page {
	p := &page.Page{Name: "Fit Check", Document: true}
	p.Add(page.Line{Text: flat(about)}, page.Gap{}, page.Line{Text: "usage: fitcheck COMMAND [flags] ARGS"})
	names, of := parts()
	for _, part := range names {
		var l page.List
		for _, cmd := range of[part] {
			it := page.Item{Marks: []page.Span{{Text: cmd.name, Tone: page.Strong}}, Text: cmd.short}
			if cmd.example != "" {
				it.Under = []page.Item{{Text: "fitcheck " + cmd.example, Tone: page.Code}}
			}
			l.Items = append(l.Items, it)
		}
		p.Add(page.Head{Text: part}, l)
	}
	var l page.List
	for _, s := range statuses {
		l.Items = append(l.Items, page.Item{Marks: []page.Span{{Text: s.number, Tone: page.Strong}}, Text: s.means})
	}
	p.Add(page.Head{Text: "Exit status, the same everywhere"}, l, page.Gap{}, page.Line{Text: "fitcheck help COMMAND tells more of each. The examples work in the demo kit, which fitcheck demo DIR writes; fitcheck demo shows the story."})
	return p
}

// flat joins the lines of a text, so that it wraps where it is shown.
func flat(t string) string { return strings.Join(strings.Fields(t), " ") }

func (cmd *command) usage() string { return strings.TrimSpace("fitcheck " + cmd.name + " " + cmd.args) }

// help tells what a command does, its flags, and an example.
func (cmd *command) help() *page.Page {
	p := &page.Page{Name: cmd.usage(), Document: true}
	p.Add(page.Title{Text: cmd.usage()}, page.Gap{}, page.Line{Text: sentence(cmd.short)})
	if cmd.long != "" {
		p.Add(page.Gap{}, page.Line{Text: flat(cmd.long)})
	}
	if cmd.example != "" {
		p.Add(page.Head{Text: "For example, in the demo kit"}, page.List{Items: []page.Item{{Text: "fitcheck " + cmd.example, Tone: page.Code}}})
	}
	own, common, bounds := cmd.flagGroups()
	for _, g := range []struct {
		head  string
		flags []*flag.Flag
	}{{"Flags, before or after the arguments", own}, {"As everywhere", common}, {"Bounds, against what would fill memory or disk", bounds}} {
		if len(g.flags) == 0 {
			continue
		}
		var l page.List
		for _, f := range g.flags {
			value, usage := flag.UnquoteUsage(f)
			if d := f.DefValue; value != "" && d != "" && d != "0" {
				usage += " (default " + d + ")"
			}
			l.Items = append(l.Items, page.Item{Marks: []page.Span{{Text: strings.TrimSpace("-" + f.Name + " " + value), Tone: page.Strong}}, Text: usage})
		}
		p.Add(page.Head{Text: g.head}, l)
	}
	return p
}

// flagGroups parts the flags of a command: its own, those that all have, and the bounds.
func (cmd *command) flagGroups() (own, common, bounds []*flag.Flag) {
	bound, every := flag.NewFlagSet("", flag.ContinueOnError), flag.NewFlagSet("", flag.ContinueOnError)
	(&call{limits: archive.DefaultLimits()}).boundFlags(bound)
	(&command{tells: true}).commonFlags(&call{}, every)
	cmd.allFlags().VisitAll(func(f *flag.Flag) {
		switch {
		case bound.Lookup(f.Name) != nil:
			bounds = append(bounds, f)
		case every.Lookup(f.Name) != nil:
			common = append(common, f)
		default:
			own = append(own, f)
		}
	})
	return own, common, bounds
}

// allFlags are the flags of a command as they are before a call.
func (cmd *command) allFlags() *flag.FlagSet {
	f := flag.NewFlagSet(cmd.name, flag.ContinueOnError)
	cmd.flags(&call{limits: archive.DefaultLimits()}, f)
	f.Lookup("kit").DefValue = "" // whatever the environment says
	return f
}

func sentence(s string) string { return strings.ToUpper(s[:1]) + s[1:] }
