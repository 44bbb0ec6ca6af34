package cli

import (
	"context"
	"flag"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"

	"github.com/maruel/natural"

	"fitcheck/core/shell"
)

var completionCommand = register(&command{
	name: "completion", order: 180, args: "bash|zsh|fish",
	part: partRest, example: "completion bash",
	short: "print what a shell needs to complete commands, flags, devices and packages",
	long: `Prints a script for the shell: commands, their flags, and the names of the kit's devices and
packages are then completed. For bash: source <(fitcheck completion bash); for zsh the same,
after compinit; for fish: fitcheck completion fish | source.`,
})

func init() { // the command completes itself, too
	completionCommand.follows = func(*call, string) []string { return slices.Sorted(maps.Keys(scripts)) }
	completionCommand.setup = func(f *flag.FlagSet) func(context.Context, *call, []string) (int, error) {
		words := f.Bool("words", false, "print what may follow the words that are given; the scripts call it")
		return func(_ context.Context, c *call, args []string) (int, error) {
			if *words {
				for _, w := range c.completions(args) {
					fmt.Fprintln(c.env.Stdout, w)
				}
				return exitFits, nil
			}
			if len(args) != 1 || scripts[args[0]] == "" {
				return 0, usagef("completion takes a shell: bash, zsh or fish")
			}
			fmt.Fprint(c.env.Stdout, scripts[args[0]])
			return exitFits, nil
		}
	}
}

// scripts are short: all that is known is asked of the program.
var scripts = map[string]string{
	"bash": `_fitcheck() {
	local IFS=$'\n'
	COMPREPLY=($(fitcheck completion -words -- "${COMP_WORDS[@]:1:COMP_CWORD}" 2>/dev/null))
}
complete -o default -o filenames -F _fitcheck fitcheck
`,
	"zsh": `_fitcheck() {
	local -a found
	found=("${(@f)$(fitcheck completion -words -- "${(@)words[2,CURRENT]}" 2>/dev/null)}")
	found=(${found:#})
	(( ${#found} )) && compadd -U -- $found || _files
}
compdef _fitcheck fitcheck
`,
	"fish": `complete -c fitcheck -a '(fitcheck completion -words -- (commandline -opc)[2..] (commandline -ct) 2>/dev/null)'
`,
}

// completions lists what the last of some words may become.
func (c *call) completions(words []string) []string {
	if len(words) == 0 {
		words = []string{""}
	}
	last := words[len(words)-1]
	var found []string
	if len(words) == 1 {
		for _, cmd := range commands() {
			found = append(found, cmd.name)
		}
		return beginning(found, last)
	}
	i := slices.IndexFunc(commands(), func(cmd *command) bool { return cmd.name == words[0] })
	if i < 0 {
		return nil
	}
	cmd := commands()[i]
	kit := c.kitDir
	for k, w := range words[:len(words)-1] {
		if w == "-kit" && k+2 < len(words) {
			kit = words[k+1]
		}
	}
	before := words[len(words)-2]
	switch {
	case before == "-device":
		return beginning(namesIn(filepath.Join(kit, "devices"), ".yaml"), last)
	case strings.HasPrefix(last, "-"):
		f := flag.NewFlagSet(cmd.name, flag.ContinueOnError)
		cmd.flags(&call{env: c.env, limits: c.limits}, f)
		f.VisitAll(func(f *flag.Flag) { found = append(found, "-"+f.Name) })
		return beginning(found, last)
	case cmd.follows != nil:
		return beginning(cmd.follows(c, kit), last)
	case cmd.reads:
		return beginning(namesIn(filepath.Join(kit, "packages"), ""), last)
	}
	return nil
}

// namesIn lists the files of a folder, without a suffix, quoted as a shell takes them.
func namesIn(dir, suffix string) []string {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return nil
	}
	var out []string
	for _, e := range entries {
		if name, ok := strings.CutSuffix(e.Name(), suffix); ok && name != "" {
			out = append(out, shell.Quote(name))
		}
	}
	sort.Sort(natural.StringSlice(out))
	return out
}

func beginning(all []string, with string) []string {
	return slices.DeleteFunc(all, func(w string) bool {
		return !strings.HasPrefix(strings.TrimPrefix(w, "'"), strings.TrimPrefix(with, "'"))
	})
}
