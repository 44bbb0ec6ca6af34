package cli

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"

	"fitcheck/core/draft"
	"fitcheck/core/kit"
	"fitcheck/core/notes"
	"fitcheck/core/rulebook"
	"fitcheck/core/survey"
	"fitcheck/internal/present"
	"fitcheck/internal/present/page"
)

// draftSources are what a draft is made from, beside packages, and the rulebook into which it
// goes.
type draftSources struct {
	notes, captures, tables names
	merge                   string
}

// draft writes a rulebook from what packages say of themselves, and notes, captures and tables.
func (c *call) draft(ctx context.Context, packages []string, out string, from draftSources) (int, error) {
	// Without the rulebooks: what they know is not drafted, and a shell may just
	// have made the empty file that the draft goes to.
	k, err := kit.OpenLayouts(c.kitDir)
	if err != nil {
		return 0, err
	}
	o := survey.Options{Limits: c.limits, Formats: k.Formats, Texts: true, Seen: survey.NewSeen()}
	var rb *rulebook.Rulebook
	if from.merge != "" {
		if rb, err = c.readRulebook(from.merge); err != nil {
			return 0, err
		}
		o.Rulebooks = []*rulebook.Rulebook{rb}
	}
	in, err := c.draftInput(ctx, k, packages, o, from)
	if err != nil {
		return 0, err
	}
	if rb != nil {
		return c.mergeDraft(rb, in, out)
	}
	d := draft.New(in)
	if c.json {
		return exitFits, present.WriteJSON(c.env.Stdout, present.DraftJSON(d))
	}
	text := page.SafeLines(d.YAML())
	if out == "" {
		fmt.Fprint(c.env.Stdout, text)
		return exitFits, nil
	}
	if err := writeNew(out, c.replacing(), func(b *strings.Builder) error { b.WriteString(text); return nil }); err != nil {
		return 0, err
	}
	c.show(present.DraftPage(out, len(rulebook.GuessLines([]byte(text)))))
	return exitFits, nil
}

// draftInput reads what a draft is made from.
func (c *call) draftInput(ctx context.Context, k *kit.Kit, packages []string, o survey.Options, from draftSources) (draft.Input, error) {
	var in draft.Input
	for _, p := range packages {
		paths, err := k.Packages(p, false)
		if err != nil {
			return in, err
		}
		for _, path := range paths {
			s, err := survey.Run(ctx, path, o)
			if err != nil {
				return in, err
			}
			if err := denied(s); err != nil {
				return in, err
			}
			in.Packages = append(in.Packages, s)
		}
	}
	for _, file := range from.notes {
		data, err := kit.ReadText(file)
		if err != nil {
			return in, err
		}
		d, err := notes.Read(filepath.ToSlash(file), data, readPDF)
		if err != nil {
			return in, err
		}
		in.Notes = append(in.Notes, draft.Note{Name: filepath.ToSlash(file), Document: d})
	}
	for _, part := range []struct {
		files names
		to    *[]draft.Text
	}{{from.captures, &in.Captures}, {from.tables, &in.Tables}} {
		for _, file := range part.files {
			data, err := kit.ReadText(file)
			if err != nil {
				return in, err
			}
			*part.to = append(*part.to, draft.Text{Name: filepath.ToSlash(file), Data: data})
		}
	}
	return in, nil
}

// mergeDraft puts the releases that are new into a rulebook, or into a copy of it.
func (c *call) mergeDraft(rb *rulebook.Rulebook, in draft.Input, out string) (int, error) {
	file := filepath.FromSlash(rb.File)
	data, err := kit.ReadText(file)
	if err != nil {
		return 0, err
	}
	m, err := draft.Merge(rb, string(data), in)
	if err != nil {
		return 0, err
	}
	switch {
	case out != "":
		err = writeNew(out, c.replacing(), func(b *strings.Builder) error { b.WriteString(m.Text); return nil })
	case m.Text != string(data):
		out, err = file, rewrite(file, m.Text)
	default:
		out = file
	}
	if err != nil {
		return 0, err
	}
	return exitFits, c.tell(present.MergedJSON(m, out), present.MergedPage(m, out))
}
