package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"

	"fitcheck/core/device"
	"fitcheck/core/draft"
	"fitcheck/core/example"
	"fitcheck/core/fit"
	"fitcheck/core/kit"
	"fitcheck/core/member"
	"fitcheck/core/rulebook"
	"fitcheck/core/survey"
	"fitcheck/internal/present"
	"fitcheck/internal/present/page"
)

// readRulebook reads a rulebook: a file, or one of the kit as it is cited.
func (c *call) readRulebook(file string) (*rulebook.Rulebook, error) {
	if _, err := os.Stat(file); err != nil && filepath.IsLocal(file) {
		for _, at := range []string{filepath.Join(c.kitDir, file), filepath.Join(c.kitDir, "rulebooks", file), filepath.Join(c.kitDir, "rulebooks", file+".yaml")} {
			if exists(at) {
				file = at
				break
			}
		}
	}
	data, err := kit.ReadText(file)
	if err != nil {
		return nil, err
	}
	return rulebook.Read(filepath.ToSlash(file), data)
}

// testExamples holds the examples of rulebooks.
func (c *call) testExamples(ctx context.Context, files []string) (int, error) {
	var all []example.Result
	c.seen = survey.NewSeen()
	for _, f := range files {
		rb, err := c.readRulebook(f)
		if err != nil {
			return 0, err
		}
		k, err := c.kitAround(rb)
		if err != nil {
			return 0, err
		}
		results, err := example.Run(ctx, k, rb, func(ctx context.Context, name string) (*survey.Survey, error) {
			return c.survey(ctx, k, name, rb, nil)
		})
		if err != nil {
			return 0, err
		}
		all = append(all, results...)
	}
	status := exitFits
	for _, r := range all {
		switch {
		case !r.OK && !r.Missing:
			status = exitMisfit
		case r.Missing && status == exitFits:
			status = exitUnsettled
		}
	}
	return status, c.tell(present.ExamplesJSON(all), present.ExamplesPage(all))
}

// kitAround opens the kit that a rulebook lies in; else the one that is asked for.
func (c *call) kitAround(rb *rulebook.Rulebook) (*kit.Kit, error) {
	if dir := filepath.Dir(filepath.FromSlash(rb.File)); filepath.Base(dir) == "rulebooks" && c.namedKit() == "" {
		inner := *c
		inner.kitDir = filepath.Dir(dir)
		return inner.kit()
	}
	return c.kit()
}

// tryPatterns shows what the patterns of a rulebook catch in files.
func (c *call) tryPatterns(ctx context.Context, file string, files []string) (int, error) {
	rb, err := c.readRulebook(file)
	if err != nil {
		return 0, err
	}
	k, err := c.kitAround(rb)
	if err != nil {
		return 0, err
	}
	var all []*example.Tried
	status := exitFits
	for _, f := range files {
		at := f
		if !exists(at) && filepath.IsLocal(at) {
			for _, in := range []string{filepath.Join(k.Dir, f), k.Package(f)} {
				if exists(in) {
					at = in
					break
				}
			}
		}
		if !exists(at) { // a name alone
			t, err := example.Text(rb, f, nil)
			if err != nil || len(t.Caught) == 0 {
				return 0, fmt.Errorf("%s: there is no such file, and no file pattern reads the name", f)
			}
			t.Silent = nil
			all = append(all, t)
			continue
		}
		t, err := c.tryOne(ctx, k, rb, f, at)
		if err != nil {
			return 0, err
		}
		if len(t.Caught) == 0 {
			status = exitMisfit
		}
		all = append(all, t)
	}
	return status, c.tell(present.TriedJSON(all), present.TriedPage(all))
}

func (c *call) tryOne(ctx context.Context, k *kit.Kit, rb *rulebook.Rulebook, name, at string) (*example.Tried, error) {
	s, err := survey.Run(ctx, at, survey.Options{Limits: c.limits, Formats: k.Formats, Rulebooks: []*rulebook.Rulebook{rb}, Texts: true})
	if err != nil {
		return nil, err
	}
	if root := s.Root(); root != nil && !s.Folder && root.Kind == "text" || s.Root() == nil && !s.Folder {
		data, err := kit.ReadText(at)
		if err != nil {
			return nil, err
		}
		return example.Text(rb, filepath.ToSlash(name), data)
	}
	return example.Package(rb, s, func(address string) []byte {
		if it := s.Find(address); it != nil {
			return it.Text()
		}
		return nil
	}), nil
}

var notAKey = regexp.MustCompile(`[^A-Za-z0-9]+`)

// importTable reads a maker's table into rules.
func (c *call) importTable(file, into string) (int, error) {
	data, err := kit.ReadText(file)
	if err != nil {
		return 0, err
	}
	var fit func(string) string
	if into != "" {
		rb, err := c.readRulebook(into)
		if err != nil {
			return 0, err
		}
		fit = func(v string) string { return asRead(rb, v) }
	}
	tables, err := draft.ReadTables(file, data)
	if err == nil {
		var im *draft.Imported
		key := strings.ToUpper(notAKey.ReplaceAllString(strings.TrimSuffix(filepath.Base(file), filepath.Ext(file)), ""))
		if im, err = draft.Import(filepath.Base(file), key, tables, fit); err == nil {
			return c.imported(im, into)
		}
	}
	why := fmt.Errorf("%s: %w; name the columns from and to, and save the table again", file, err)
	if c.json {
		_ = present.WriteJSON(c.env.Stdout, present.ErrorJSON("import", why.Error(), file))
	}
	fmt.Fprintln(c.env.Stderr, "fitcheck: "+page.Safe(why.Error()))
	return exitMisfit, nil
}

// asRead writes a version as a rulebook reads it: tables leave out zeros at the end.
func asRead(rb *rulebook.Rulebook, version string) string {
	scheme := rb.Scheme("main")
	for _, tail := range []string{"", ".0", ".0.0", ".0.0.0"} {
		if _, err := scheme.Parse(version + tail); err == nil {
			return version + tail
		}
	}
	return version
}

func (c *call) imported(im *draft.Imported, into string) (int, error) {
	if into != "" {
		if err := c.mergeInto(into, im); err != nil {
			return 0, err
		}
		return exitFits, c.tell(present.ImportedJSON(im, into), present.ImportedPage(im, into))
	}
	if c.json {
		return exitFits, present.WriteJSON(c.env.Stdout, present.ImportedJSON(im, ""))
	}
	for _, n := range im.Notes {
		fmt.Fprintln(c.env.Stderr, "fitcheck: note: "+page.Safe(n))
	}
	fmt.Fprint(c.env.Stdout, page.SafeLines(im.YAML()))
	return exitFits, nil
}

// mergeInto puts the rules of a table into a rulebook, and leaves the rest as it is.
func (c *call) mergeInto(file string, im *draft.Imported) error {
	data, err := kit.ReadText(file)
	if err != nil {
		return err
	}
	text, ok := string(data), true
	for _, part := range []struct{ keys, lines []string }{{[]string{"sources"}, []string{im.Key + ": '" + strings.ReplaceAll(im.Title, "'", "''") + "'"}}, {[]string{"hops", "rules"}, im.Rules}} {
		if text, ok = example.Insert(text, part.keys, part.lines); !ok {
			return fmt.Errorf("%s: %s is written in braces there, and nothing can be put into it; write it over several lines", file, strings.Join(part.keys, ": "))
		}
	}
	return rewrite(file, text)
}

// rewrite replaces a rulebook by a text that must be one.
func rewrite(file, text string) error {
	if _, err := rulebook.Read(filepath.ToSlash(file), []byte(text)); err != nil {
		return fmt.Errorf("%s: with what is added it would no longer be sound, and is left as it was: %w", file, err)
	}
	return writeNew(file, true, func(b *strings.Builder) error { b.WriteString(text); return nil })
}

// addExample puts a verdict into its rulebook as an example.
func (m *matching) addExample(c *call, d *device.Device, v *fit.Verdict, pkg string) error {
	rules, err := m.rules(d)
	if err != nil {
		return err
	}
	rb := rules(d.All()[0].Model.Text)
	if rb == nil {
		return errors.New("no rulebook knows the device, so that there is none to add the example to")
	}
	line := example.Line(d, func(b *device.Device) *member.Member { return member.Resolve(b, rules(b.Model.Text)) }, v, pkg)
	file := filepath.Join(m.k.Dir, filepath.FromSlash(rb.File))
	if !exists(file) {
		file = filepath.FromSlash(rb.File)
	}
	data, err := kit.ReadText(file)
	if err != nil {
		return err
	}
	text, ok := example.Add(string(data), line)
	if !ok {
		return fmt.Errorf("%s: its examples are written in brackets, and nothing can be added to them; write them line by line, or add this one by hand: %s", file, line)
	}
	if err := rewrite(file, text); err != nil {
		return err
	}
	if !c.json {
		c.show(present.ExampleAdded(line, rb.File))
	}
	return nil
}
