package cli

import (
	"flag"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"fitcheck/core/survey"
	"fitcheck/internal/present"
	"fitcheck/internal/present/page"
)

// foldFlags declares the flags that unfold what a command's page folds, and the one that
// writes the page to a file.
func (cmd *command) foldFlags(c *call, f *flag.FlagSet) {
	c.open = map[string]*bool{}
	for _, name := range cmd.folds {
		c.open[name] = f.Bool(strings.TrimPrefix(name, "-"), false, unfolds[name])
	}
	if !cmd.reports {
		return
	}
	kinds := strings.Join(cmd.reportKinds(), ", ")
	f.StringVar(&c.report, "report", "", "also write the page to this `file`, unfolded; its name ends in "+kinds)
	if f.Lookup("replace") == nil {
		f.BoolVar(&c.replace, "replace", false, "replace a report that is there")
	}
}

// unfolds says what the flags show.
var unfolds = map[string]string{
	page.Why: "show every line with where both sides of it were read",
	page.All: "list every entry, however many there are",
}

func (cmd *command) reportKinds() []string {
	kinds := []string{".html", ".md", ".txt"}
	if cmd.draws {
		kinds = append(kinds, ".svg")
	}
	return kinds
}

// checkReport refuses a report of a kind that is not written.
func (cmd *command) checkReport(c *call) error {
	if c.report == "" || slices.Contains(cmd.reportKinds(), kindOf(c.report)) {
		return nil
	}
	return usagef("-report takes a file whose name ends in %s, not %q", strings.Join(cmd.reportKinds(), ", "), filepath.Base(c.report))
}

func kindOf(file string) string {
	if kind := strings.ToLower(filepath.Ext(file)); kind != ".htm" {
		return kind
	}
	return ".html"
}

// tell gives an answer: as one JSON document, or as a page; and as a report, where one is
// asked for.
func (c *call) tell(doc any, p *page.Page) error { return c.tellWith(doc, p, p, nil) }

// tellWith is tell where the report holds more than the screen.
func (c *call) tellWith(doc any, p, report *page.Page, surveys []*survey.Survey) error {
	if c.report != "" {
		if err := c.writeReport(report, surveys); err != nil {
			return err
		}
	}
	if c.json {
		return present.WriteJSON(c.env.Stdout, doc)
	}
	c.show(p)
	if c.report != "" {
		c.show(&page.Page{Blocks: []page.Block{page.Gap{}, page.Line{Text: "The report is in " + c.report + ".", Tone: page.Info}}})
	}
	return nil
}

func (c *call) writeReport(p *page.Page, surveys []*survey.Survey) error {
	r := present.Report{Page: p, Surveys: surveys, Made: time.Now(), Version: Version}
	return writeNew(c.report, c.replacing(), func(b *strings.Builder) error {
		switch kindOf(c.report) {
		case ".md":
			return r.Markdown(b)
		case ".txt":
			return r.Text(b)
		case ".svg":
			svg := p.Picture()
			if svg == "" {
				return fmt.Errorf("%s: there is nothing to draw: no rulebook gives releases for it; write .html or .md", c.report)
			}
			_, err := b.WriteString(svg)
			return err
		}
		return r.HTML(b)
	})
}

// replacing tells whether files that are there may be replaced.
func (c *call) replacing() bool {
	f := c.flags.Lookup("replace")
	return f != nil && f.Value.String() == "true"
}

// screen is where answers are shown.
func (c *call) screen() *page.Screen {
	s := c.env.screen(c.env.Stdout)
	s.Kit = c.namedKit()
	for _, name := range []string{page.Why, page.All} {
		if on := c.open[name]; on != nil && *on {
			s.Open = append(s.Open, name)
		}
	}
	return s
}

func (c *call) show(p *page.Page) { c.screen().Show(p) }
