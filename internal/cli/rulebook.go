package cli

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"os"
	"path/filepath"
	"strings"

	"fitcheck/core/kit"
	"fitcheck/core/rulebook"
	"fitcheck/internal/present"
	"fitcheck/internal/present/page"
)

var _ = register(&command{
	name: "rulebook", order: 140, args: "check|draft|try|test|import|schema …", tells: true, reads: true, folds: []string{page.All},
	part: partRules, example: "rulebook check rulebooks/quillmere.yaml",
	short: "is this rulebook, layout or device file sound?",
	long: `rulebook check FILE…, rulebook draft PACKAGE… [-notes FILE] [-capture FILE], rulebook try RULEBOOK FILE…, rulebook test
RULEBOOK…, rulebook import TABLE, rulebook schema device|rulebook|layout.
check reads files that people write and says all that is wrong with them, each with its
line, column and what to do; warnings are about what can be read and is hardly meant. The
exit status is 0 when the files are sound, 1 when not, 4 when one cannot be opened.
draft writes a first rulebook from what manifests, headers and names in packages say, and from
release notes, captures and makers' tables, of all of them at once. Every guess in it is marked and asks
a question; nothing is judged by it before you have answered. With -out it goes to FILE, and
folders that are missing are made. With -merge RULEBOOK the releases that are new are put into
that rulebook, as guesses; the rest of it stays as it is.
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
		var sources draftSources
		f.Var(&sources.notes, "notes", "draft: release `notes` (text, Markdown, HTML, PDF); may be given several times")
		f.Var(&sources.captures, "capture", "draft: a console `capture` of a device of the line; may be given several times")
		f.Var(&sources.tables, "table", "draft: a maker's `table` of moves (CSV, HTML, Markdown); may be given several times")
		f.StringVar(&sources.merge, "merge", "", "draft: put the releases that are new into this `rulebook`; the rest of it stays as it is")
		into := f.String("into", "", "import: put the rules into this `rulebook`; the rest of it stays as it is")
		return func(ctx context.Context, c *call, args []string) (int, error) {
			if len(args) < 2 {
				return 0, usagef("write rulebook check, draft, try, test, import or schema, and what for")
			}
			switch args[0] {
			case "check":
				return c.check(args[1:])
			case "draft":
				return c.draft(ctx, args[1:], *out, sources)
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
})

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
