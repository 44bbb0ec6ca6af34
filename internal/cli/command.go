// Package cli is the command line: it turns flags into calls of the core,
// hands results to the presenter, and turns verdicts into exit statuses.
package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"log/slog"
	"os"
	"regexp"
	"runtime/debug"
	"slices"
	"strings"

	"golang.org/x/term"

	"fitcheck/core/archive"
	"fitcheck/core/digest"
	"fitcheck/core/fault"
	"fitcheck/core/fit"
	"fitcheck/core/kit"
	"fitcheck/core/shell"
	"fitcheck/core/spelling"
	"fitcheck/core/survey"
	"fitcheck/core/wording"
	"fitcheck/core/yamlfile"
	"fitcheck/internal/present"
	"fitcheck/internal/present/page"
)

// Exit statuses, the same for every command.
const (
	exitFits        = 0 // fits, or done
	exitMisfit      = 1 // misfit, or a check failed
	exitUsage       = 2
	exitUnsettled   = 3
	exitUnreadable  = 4 // an input could not be read or was refused
	exitInterrupted = 130
)

func statusOf(o fit.Outcome) int {
	switch o {
	case fit.Misfit:
		return exitMisfit
	case fit.Unsettled:
		return exitUnsettled
	}
	return exitFits
}

// Env is where a command's output goes.
type Env struct {
	Stdout, Stderr io.Writer
	Width          int // columns; 0 is unbounded
	Color          bool
	StderrTerminal bool
	Stdin          io.Reader // nil is that of the process
	// Cache is the folder for what is remembered from call to call; "" remembers nothing.
	Cache string
	// engineer answers runbook -follow in place of somebody at the terminal.
	engineer *engineer
}

func (e Env) stdin() io.Reader {
	if e.Stdin != nil {
		return e.Stdin
	}
	return os.Stdin
}

// screen shows pages.
func (e Env) screen(w io.Writer) *page.Screen {
	return &page.Screen{Out: w, Width: e.Width, Color: e.Color}
}

// pipeWidth is how wide what goes to a pipe or a file is written.
const pipeWidth = 100

// Terminal looks at the standard streams of this process.
func Terminal() Env {
	env := Env{Stdout: os.Stdout, Stderr: os.Stderr, StderrTerminal: term.IsTerminal(int(os.Stderr.Fd()))}
	if dir, err := os.UserCacheDir(); err == nil {
		env.Cache = dir
	}
	env.Width = pipeWidth
	if fd := int(os.Stdout.Fd()); term.IsTerminal(fd) {
		env.Color = os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb"
		if w, _, err := term.GetSize(fd); err == nil {
			env.Width = w
		}
	}
	return env
}

// command is one command of the program.
type command struct {
	name  string
	args  string // what follows the name in the usage line
	short string // the question it answers
	long  string
	// order is its place among the commands, part where in the work it stands; example is a call of it in the demo kit.
	order         int
	part, example string
	// run declares its flags and returns what runs with the arguments.
	setup func(f *flag.FlagSet) func(ctx context.Context, c *call, args []string) (int, error)
	// tells: it prints a result, so that -json has a meaning.
	tells bool
	// reads: it opens packages, so that their bounds have a meaning.
	reads bool
	// folds are the flags that unfold its page; reports: the page can be written to a file;
	// draws: there is a picture in it.
	folds          []string
	reports, draws bool
	// follows lists, for completion, what its arguments may be; nil for packages, where it
	// reads some. The text is the kit's folder.
	follows func(c *call, kit string) []string
}

// call is one call of a command: its environment and the common flags.
type call struct {
	env      Env
	kitDir   string
	json     bool
	quiet    bool
	deep     bool // survey -deep
	quick    bool
	contents bool // survey -contents
	// undigested: the page shows no digests of items.
	undigested bool
	digests    []digest.Algorithm // computed of every item, whatever is published
	seen       *survey.Seen       // what lies in the packages that were surveyed; nil where one alone is
	flags      *flag.FlagSet
	limits     archive.Limits
	open       map[string]*bool // flags that unfold
	report     string
	replace    bool
}

// namedKit is the kit as a flag named it, "" where none did: the commands that are
// offered then name it, too.
func (c *call) namedKit() string {
	named := ""
	c.flags.Visit(func(f *flag.Flag) {
		if f.Name == "kit" && f.Value.String() != "." {
			named = f.Value.String()
		}
	})
	return named
}

// kit opens the kit, and tells of what in it cannot be used.
func (c *call) kit() (*kit.Kit, error) {
	// Most of what reading makes is garbage at once; memory stays small all the same.
	percent, limit := debug.SetGCPercent(400), debug.SetMemoryLimit(manyMemory)
	k, err := kit.Open(c.kitDir)
	debug.SetGCPercent(percent)
	debug.SetMemoryLimit(limit)
	if err != nil {
		return nil, err
	}
	for _, b := range k.Broken {
		fmt.Fprintln(c.env.Stderr, "fitcheck: note: "+page.Safe(b.Note()))
	}
	return k, nil
}

// usageError is a wrong call: exit status 2.
type usageError struct{ msg string }

func (e *usageError) Error() string { return e.msg }

func usagef(format string, args ...any) error { return &usageError{fmt.Sprintf(format, args...)} }

// registered are all commands, in the order of the work.
var registered []*command

// register adds a command; the file that declares it does so. Two of one name or one place are a fault
// of the program.
func register(c *command) *command {
	for _, o := range registered {
		if o.name == c.name || o.order == c.order {
			panic(fmt.Sprintf("cli: %s and %s have one name or one place", o.name, c.name))
		}
	}
	registered = append(registered, c)
	slices.SortFunc(registered, func(a, b *command) int { return a.order - b.order })
	return c
}

func commands() []*command { return registered }

// Run runs the program with its arguments (without the program's name) and
// returns the exit status.
func Run(ctx context.Context, args []string, env Env) int {
	if len(args) == 0 {
		env.screen(env.Stderr).Show(overview())
		return exitUsage
	}
	name := args[0]
	switch name {
	case "-h", "-help", "--help":
		name = "help"
	case pdfCommand: // called by the program itself
		return servePDF(env)
	}
	for _, cmd := range commands() {
		if cmd.name == name {
			return cmd.call(ctx, args[1:], env)
		}
	}
	err := noCommand(name)
	if wantsJSON(args) {
		_ = present.WriteJSON(env.Stdout, present.ErrorJSON("usage", err.Error(), ""))
	}
	fmt.Fprintf(env.Stderr, "fitcheck: %v\n", err)
	return exitUsage
}

// noCommand says that there is none of a name, and which may be meant.
func noCommand(name string) error {
	var names []string
	for _, cmd := range commands() {
		names = append(names, cmd.name)
	}
	if near := spelling.Nearest(name, names); near != "" {
		return usagef("there is no command %q; did you mean %s?", page.Safe(name), near)
	}
	return usagef("there is no command %q; the commands are %s", page.Safe(name), strings.Join(names, ", "))
}

// wantsJSON tells whether arguments ask for JSON, also where they cannot be read.
func wantsJSON(args []string) bool {
	return slices.ContainsFunc(args, func(a string) bool {
		return a == "-json" || a == "--json" || a == "-json=true" || a == "--json=true" || a == "-format=json"
	})
}

// failure tells what kind of failure an error is, and where it lies.
func failure(err error) (code, where string) {
	var u *usageError
	var bound *archive.BoundError
	var open *archive.OpenError
	var own *fault.Error
	var file yamlfile.Errors
	switch {
	case errors.As(err, &u):
		return "usage", ""
	case errors.As(err, &own):
		return "fault", ""
	case errors.As(err, &bound):
		return "refused.bound", bound.Item
	case errors.As(err, &open):
		return "refused.open", open.Path
	case errors.As(err, &file) && len(file) > 0:
		return "refused.file", fmt.Sprintf("%s:%d:%d", file[0].File, file[0].Spot.Line, file[0].Spot.Column)
	}
	return "refused", ""
}

// In one piece: the steps of the call, each of which may end it.
func (cmd *command) call(ctx context.Context, args []string, env Env) int {
	out, within := env.Stdout.(*checkedWriter) // within another command: that one tells
	if !within {
		guard := page.NewGuard(env.Stdout, env.Color)
		defer guard.Flush()
		out = &checkedWriter{w: guard}
		env.Stdout = out
	}
	c := &call{env: env, limits: archive.DefaultLimits()}
	f := flag.NewFlagSet(cmd.name, flag.ContinueOnError)
	f.SetOutput(io.Discard)
	run, level := cmd.flags(c, f)
	rest, err := parse(f, args)
	if c.kitDir == "" {
		c.kitDir = kit.Nearest(".")
	}
	if errors.Is(err, flag.ErrHelp) {
		env.screen(env.Stdout).Show(cmd.help())
		return exitFits
	}
	if err == nil {
		err = setLog(env.Stderr, *level)
	}
	if err == nil {
		err = cmd.checkReport(c)
	}
	status := exitUsage
	if err == nil {
		err = fault.Do(func() (err error) {
			status, err = run(ctx, c, rest)
			return err
		})
	} else {
		err = &usageError{err.Error()}
		c.json = c.json || cmd.tells && wantsJSON(args)
	}
	if ctx.Err() != nil {
		fmt.Fprintln(env.Stderr, "fitcheck: interrupted; temporary files are removed, nothing was changed")
		return exitInterrupted
	}
	if err == nil && !within {
		err = out.err
	}
	if err == nil || within && errors.Is(err, out.err) {
		return status
	}
	err = advised(err)
	var own *fault.Error
	if errors.As(err, &own) {
		slog.Debug("fault", "stack", string(own.Stack))
		err = fmt.Errorf("%w; please report it, with the version (%s) and what you called: fitcheck %s", err, Version, quoted(append([]string{cmd.name}, args...)))
	}
	if c.json && !out.begun {
		code, where := failure(err)
		_ = present.WriteJSON(env.Stdout, present.ErrorJSON(code, wording.Text(err), where))
	}
	for line := range strings.SplitSeq(wording.Text(err), "\n") {
		fmt.Fprintln(env.Stderr, "fitcheck: "+page.Safe(page.Paste(line, c.namedKit())))
	}
	var u *usageError
	if errors.As(err, &u) {
		fmt.Fprintf(env.Stderr, "usage: fitcheck %s %s\n       fitcheck help %s tells more\n", cmd.name, cmd.args, cmd.name)
		return exitUsage
	}
	return exitUnreadable
}

const kitUsage = "`folder` with rulebooks/, devices/ and packages/; else FITCHECK_KIT, this folder, or the nearest above it that holds rulebooks/"

// flags declares the flags of a call: the command's, and those that all have. It gives what
// runs, and what is to be logged.
func (cmd *command) flags(c *call, f *flag.FlagSet) (run func(context.Context, *call, []string) (int, error), level *string) {
	c.flags = f
	level = cmd.commonFlags(c, f)
	if cmd.reads {
		c.boundFlags(f)
	}
	run = cmd.setup(f)
	cmd.foldFlags(c, f)
	return run, level
}

// commonFlags declares those that every command has.
func (cmd *command) commonFlags(c *call, f *flag.FlagSet) (level *string) {
	if cmd.tells {
		f.BoolVar(&c.json, "json", false, "print one JSON document instead of text")
	}
	f.BoolVar(&c.quiet, "q", false, "no progress")
	f.StringVar(&c.kitDir, "kit", os.Getenv("FITCHECK_KIT"), kitUsage)
	return f.String("log", "warn", "what to log on stderr: `level` debug, info, warn or error")
}

// advised adds to a refusal which flag raises the bound.
func advised(err error) error {
	var bound *archive.BoundError
	if errors.As(err, &bound) {
		return fmt.Errorf("%w; if you trust where it comes from, %s raises the bound", err, boundFlag[bound.Bound])
	}
	return err
}

// checkedWriter remembers that a result could not be written in full, so that
// half a report on a full disk never comes with a good exit status.
type checkedWriter struct {
	w     io.Writer
	err   error
	begun bool // something was written
}

func (c *checkedWriter) Write(p []byte) (int, error) {
	if c.err != nil {
		return 0, c.err
	}
	c.begun = true
	n, err := c.w.Write(p)
	if err != nil {
		c.err = fmt.Errorf("the result could not be written in full: %w; free some space, or write it elsewhere", err)
	}
	return n, c.err
}

// parse lets flags stand before or after the arguments. After "--" everything
// is an argument.
func parse(f *flag.FlagSet, args []string) ([]string, error) {
	var rest []string
	for i, a := range args {
		if a == "--" {
			rest, args = append(rest, args[i+1:]...), args[:i]
			break
		}
	}
	var front []string
	for {
		if err := f.Parse(args); err != nil {
			return nil, plainFlag(err, f)
		}
		args = f.Args()
		if len(args) == 0 {
			return append(front, rest...), nil
		}
		front = append(front, args[0])
		args = args[1:]
	}
}

// flagFaults are what the flag package says, and what is said instead; $1 is the flag, or what
// was given for it.
var flagFaults = []struct {
	said *regexp.Regexp
	say  string
}{
	{regexp.MustCompile(`^flag provided but not defined: -(.*)$`), "there is no flag -$1"},
	{regexp.MustCompile(`^flag needs an argument: -(.*)$`), "-$1 takes a value, and none follows it"},
	{regexp.MustCompile(`(?s)^invalid boolean value "(.*)" for -(.*): parse error$`), `-$2 takes no value, or =false; not "$1"`},
	{regexp.MustCompile(`(?s)^invalid boolean flag (.*): parse error$`), `-$1 takes no value`},
	{regexp.MustCompile(`(?s)^invalid value "(.*)" for flag -(\S*): (?:parse error|value out of range)$`), `-$2 takes a number, not "$1"`},
	{regexp.MustCompile(`(?s)^invalid value "(.*)" for flag -(\S*): (.*)$`), `-$2 "$1": $3`},
	{regexp.MustCompile(`^bad flag syntax: (.*)$`), `$1 is no flag; after -- every word is an argument`},
}

// plainFlag says in plain words why flags cannot be read.
func plainFlag(err error, f *flag.FlagSet) error {
	if errors.Is(err, flag.ErrHelp) {
		return err
	}
	said := err.Error()
	for _, x := range flagFaults {
		m := x.said.FindStringSubmatchIndex(said)
		if m == nil {
			continue
		}
		text := string(x.said.ExpandString(nil, x.say, said, m))
		if x.say == flagFaults[0].say {
			var names []string
			f.VisitAll(func(f *flag.Flag) { names = append(names, f.Name) })
			if near := spelling.Nearest(said[m[2]:m[3]], names); near != "" {
				text += "; did you mean -" + near + "?"
			}
		}
		return errors.New(text)
	}
	return err
}

// quoted writes arguments so that a shell takes them as they are.
func quoted(args []string) string {
	var out []string
	for _, a := range args {
		out = append(out, shell.Quote(a))
	}
	return strings.Join(out, " ")
}

func setLog(w io.Writer, level string) error {
	var l slog.Level
	if err := l.UnmarshalText([]byte(level)); err != nil {
		return fmt.Errorf("-log takes debug, info, warn or error, not %q", level)
	}
	slog.SetDefault(slog.New(slog.NewTextHandler(w, &slog.HandlerOptions{Level: l})))
	return nil
}
