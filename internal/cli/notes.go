package cli

import (
	"context"
	"flag"
	"fmt"
	"os"
	"path/filepath"

	"fitcheck/core/kit"
	"fitcheck/core/notes"
	"fitcheck/core/rulebook"
	"fitcheck/internal/present"
	"fitcheck/internal/present/page"
)

var _ = register(&command{
	name: "notes", order: 60, args: "PACKAGE|FILE…", tells: true, reads: true, folds: []string{page.All}, reports: true,
	part: partDownload, example: "notes packages/qm-core-6.4.1.zip",
	short: "what do the release notes say that bears on the install?",
	long: `Reads the release notes and readme files of packages, or files: text, Markdown, HTML and PDF.
Shows, line by line, what they say of prerequisites, minimum versions, supported and dropped
hardware, known faults and the loss of settings, with the versions and models that the
rulebook knows; and what they say that the rulebook does not. It quotes, and decides nothing:
the exit status is 0 when something could be read.`,
	setup: func(f *flag.FlagSet) func(context.Context, *call, []string) (int, error) {
		about := f.String("about", "", "also show every line that speaks of this `text`, fixes among them")
		release := f.String("release", "", "the `version` that the notes are about, where they do not say")
		return func(ctx context.Context, c *call, args []string) (int, error) {
			if len(args) == 0 {
				return 0, usagef("notes takes packages or files, and none is given")
			}
			k, err := c.kit()
			if err != nil {
				return 0, err
			}
			var docs []present.Notes
			for _, a := range args {
				some, err := c.notes(ctx, k, a, *about, *release)
				if err != nil {
					return 0, err
				}
				docs = append(docs, some...)
			}
			return exitFits, c.tell(present.NotesJSON(docs), present.NotesPage(docs, *about))
		}
	},
})

// notes reads the notes of one package, or one file of notes.
func (c *call) notes(ctx context.Context, k *kit.Kit, name, about, release string) ([]present.Notes, error) {
	path := k.Package(name)
	files, others, err := c.documents(ctx, k, path)
	if err != nil {
		return nil, err
	}
	if len(files) == 0 {
		more := "tell where they are with notes: in the rulebook"
		if len(others) > 0 {
			more = fmt.Sprintf("it holds %d other texts, such as %s; %s", len(others), others[0], more)
		}
		return nil, fmt.Errorf("%s: no release notes are found in it; %s", name, more)
	}
	var out []present.Notes
	for _, f := range files {
		one := present.Notes{File: f.Address}
		if f.Long {
			one.Fault = fmt.Sprintf("it is longer than %d MiB, and was not read", notes.MaxBytes>>20)
			out = append(out, one)
			continue
		}
		d, err := notes.Read(f.Address, f.Data, readPDF)
		if err != nil {
			one.Fault = err.Error()
			out = append(out, one)
			continue
		}
		one.Form, one.Lines = d.Form, len(d.Lines)
		rb := notes.Best(k.Rulebooks, d)
		one.Statements = notes.Find(f.Address, d, rb, about)
		if rb != nil {
			one.Rulebook = rb.File
			rel := notes.Release(rb, filepath.Base(path), d)
			if release != "" {
				if rel = rb.FindRelease(release, "", "", ""); rel == nil {
					return nil, usagef("%s lists no release %s", rb.File, release)
				}
			}
			if rel != nil {
				one.Release = rel.Version.Text
			}
			notes.Compare(one.Statements, rb, rel)
		}
		out = append(out, one)
	}
	read := false
	for _, one := range out {
		read = read || one.Fault == ""
	}
	if !read {
		return nil, fmt.Errorf("%s", out[0].Fault)
	}
	return out, nil
}

// documents are the notes inside a package, or the file itself when it is one.
func (c *call) documents(ctx context.Context, k *kit.Kit, path string) (files []notes.File, others []string, err error) {
	if info, err := os.Stat(path); err == nil && info.Mode().IsRegular() && info.Size() <= notes.MaxBytes {
		data, err := kit.ReadText(path)
		if err != nil {
			return nil, nil, err
		}
		later := func([]byte) ([]notes.Line, error) { return nil, nil }
		if _, err := notes.Read(path, data, later); err == nil {
			return []notes.File{{Address: path, Data: data}}, nil, nil
		}
	}
	var entries []*rulebook.Package
	for _, rb := range k.Rulebooks {
		for i := range rb.Packages {
			entries = append(entries, &rb.Packages[i])
		}
	}
	return notes.Collect(ctx, path, c.limits, entries)
}
