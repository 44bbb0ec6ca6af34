package cli

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"fitcheck/core/draft"
	"fitcheck/core/kit"
	"fitcheck/core/rulebook"
	"fitcheck/core/survey"
	"fitcheck/internal/present"
	"fitcheck/internal/present/page"
)

var rulebookCommand = &command{
	name: "rulebook", args: "check|draft|try|test|import|schema …", tells: true, reads: true, folds: []string{page.All},
	part: partRules, example: "rulebook check rulebooks/quillmere.yaml",
	short: "is this rulebook, layout or device file sound?",
	long: `rulebook check FILE…, rulebook draft PACKAGE…, rulebook try RULEBOOK FILE…, rulebook test
RULEBOOK…, rulebook import TABLE, rulebook schema device|rulebook|layout.
check reads files that people write and says all that is wrong with them, each with its
line, column and what to do; warnings are about what can be read and is hardly meant. The
exit status is 0 when the files are sound, 1 when not, 4 when one cannot be opened.
draft writes a first rulebook from what manifests, headers and names in packages say. Every
guess in it is marked; nothing in it allows an install before you have gone through it.
With -out it goes to FILE, and folders that are missing are made.
try shows what each pattern catches in captures, manifests, names and titles, which lines none
reads, and which patterns are silent, with the nearest.
test holds the examples of rulebooks: 0, 1 with the wrong ones, 3 where a package is not at hand.
import reads a maker's table (CSV, HTML, Markdown: from, to, stops) into rules with the table as
their source, and prints them, or puts them into a rulebook with -into. 1 when the table has
no columns for from and to.
schema prints the JSON Schema of a kind of file, for editors that complete and check.`,
	setup: func(f *flag.FlagSet) func(context.Context, *call, []string) (int, error) {
		out := f.String("out", "", "write the draft to this `file`")
		f.Bool("replace", false, "replace a file that is there")
		into := f.String("into", "", "import: put the rules into this `rulebook`; the rest of it stays as it is")
		return func(ctx context.Context, c *call, args []string) (int, error) {
			if len(args) < 2 {
				return 0, usagef("write rulebook check, draft, try, test, import or schema, and what for")
			}
			switch args[0] {
			case "check":
				return c.check(args[1:])
			case "draft":
				return c.draft(ctx, args[1:], *out)
			case "test":
				return c.testExamples(ctx, args[1:])
			case "try":
				if len(args) < 3 {
					return 0, usagef("rulebook try takes a rulebook, and the files to try its patterns on")
				}
				return c.tryPatterns(ctx, args[1], args[2:])
			case "import":
				if len(args) != 2 {
					return 0, usagef("rulebook import takes one table")
				}
				return c.importTable(args[1], *into)
			case "schema":
				return c.schema(args[1:])
			}
			return 0, usagef("there is no rulebook %s; write check, draft, try, test, import or schema", args[0])
		}
	},
}

// check tells what is wrong with files that people write.
func (c *call) check(paths []string) (int, error) {
	var files []present.CheckedFile
	status := exitFits
	for _, path := range paths {
		if _, err := os.Stat(path); err != nil && filepath.IsLocal(path) { // as the kit's own files are cited
			if inKit := filepath.Join(c.kitDir, path); exists(inKit) {
				path = inKit
			}
		}
		kind, warnings, err := kit.Read(path)
		f := present.CheckedFile{Path: path, Kind: kind, Warnings: warnings}
		if kind == "rulebook" {
			if data, err := kit.ReadText(path); err == nil {
				f.Guesses = rulebook.GuessLines(data)
			}
		}
		if err != nil && !errors.As(err, &f.Errors) {
			return 0, err
		}
		if len(f.Errors) > 0 {
			status = exitMisfit
		}
		files = append(files, f)
	}
	return status, c.tell(present.CheckedJSON(files), present.CheckedPage(files))
}

func exists(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}

// draft writes a rulebook from what packages say of themselves.
func (c *call) draft(ctx context.Context, packages []string, out string) (int, error) {
	// Without the rulebooks: what they know is not drafted, and a shell may just
	// have made the empty file that the draft goes to.
	k, err := kit.OpenLayouts(c.kitDir)
	if err != nil {
		return 0, err
	}
	var surveys []*survey.Survey
	for _, p := range packages {
		paths, err := k.Packages(p, false)
		if err != nil {
			return 0, err
		}
		for _, path := range paths {
			// What rulebooks know already is not drafted.
			s, err := survey.Run(ctx, path, survey.Options{Limits: c.limits, Formats: k.Formats, Texts: true})
			if err != nil {
				return 0, err
			}
			if err := denied(s); err != nil {
				return 0, err
			}
			surveys = append(surveys, s)
		}
	}
	d := draft.New(surveys)
	if c.json {
		return exitFits, present.WriteJSON(c.env.Stdout, present.DraftJSON(d))
	}
	if out == "" {
		fmt.Fprint(c.env.Stdout, page.SafeLines(d.YAML()))
		return exitFits, nil
	}
	text := page.SafeLines(d.YAML())
	if err := writeNew(out, c.replacing(), func(b *strings.Builder) error { b.WriteString(text); return nil }); err != nil {
		return 0, err
	}
	c.show(present.DraftPage(out, len(rulebook.GuessLines([]byte(text)))))
	return exitFits, nil
}

// schema prints the schema of a kind of file.
func (c *call) schema(kinds []string) (int, error) {
	if len(kinds) != 1 {
		return 0, usagef("schema takes one kind of file")
	}
	doc := kit.Schema(kinds[0])
	if doc == nil {
		return 0, usagef("there is no schema of %s; write one of %s", kinds[0], strings.Join(kit.Kinds(), ", "))
	}
	e := json.NewEncoder(c.env.Stdout)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	return exitFits, e.Encode(doc)
}
