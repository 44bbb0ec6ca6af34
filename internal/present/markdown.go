package present

import (
	"fmt"
	"io"
	"strings"
)

// Markdown writes the report as Markdown.
func (r Report) Markdown(w io.Writer) error {
	p := r.page()
	var b strings.Builder
	f := func(format string, args ...any) { fmt.Fprintf(&b, format, args...) }
	for _, s := range p.Sections {
		f("# %s: %s\n\n", strings.ToUpper(s.Verdict), md(s.Headline))
		for _, t := range s.About {
			f("- %s\n", md(t))
		}
		if len(s.Next) > 0 {
			f("\n## What to do next\n\n")
			for i, t := range s.Next {
				f("%d. %s\n", i+1, md(t))
			}
		}
		if len(s.Deciding) > 0 {
			f("\n## What decides it\n\n")
			for _, c := range s.Deciding {
				f("- **%s**%s: %s\n", md(c.Check), of(c.Of), md(c.Because))
			}
		}
		if len(s.Others) > 0 {
			f("\n## The other packages\n\n| verdict | package | release | by |\n|---|---|---|---|\n")
			for _, o := range s.Others {
				f("| %s | %s | %s | %s |\n", o.Verdict, md(o.Package), md(o.Release), md(o.By))
			}
		}
		columns := s.Columns
		if len(columns) == 0 {
			columns = []string{"outcome"}
		}
		f("\n## Checks\n\n| check |")
		for _, c := range columns {
			f(" %s |", md(c))
		}
		f("\n|---|%s\n", strings.Repeat("---|", len(columns)))
		for _, row := range s.Rows {
			f("| %s |", md(row.Check))
			for i := range columns {
				switch {
				case i < len(row.Cells):
					f(" %s |", row.Cells[i].Outcome)
				case row.Whole:
					f(" %s |", row.Cells[0].Outcome)
				default:
					f(" |")
				}
			}
			f("\n")
		}
		if len(s.Chosen) > 0 {
			f("\n## Images\n\n| device | component | image | |\n|---|---|---|---|\n")
			for _, c := range s.Chosen {
				f("| %s | %s | %s | %s |\n", md(c.Member), md(c.Component), md(c.Item), md(c.Detail))
			}
			f("\n")
			for _, c := range s.Chosen {
				if len(c.Covers) > 0 {
					f("- %s: %s\n", md(c.Item), md(strings.Join(c.Covers, "; ")))
				}
			}
		}
		if len(s.Passed) > 0 {
			f("\n## Images passed over\n\n| device | component | image | why |\n|---|---|---|---|\n")
			for _, c := range s.Passed {
				f("| %s | %s | %s | %s |\n", md(c.Member), md(c.Component), md(c.Item), md(c.Detail))
			}
		}
		f("\n## Evidence\n")
		for _, c := range s.Checks {
			f("\n### %s: %s%s\n\n%s\n\n", c.Outcome, md(c.Check), of(c.Of), md(c.Because))
			for _, side := range c.Sides {
				f("- %s: %s\n", side.Name, md(side.Text))
			}
			if c.Advice != "" {
				f("- to do: %s\n", md(c.Advice))
			}
			for _, e := range c.Excerpts {
				f("\n%s", md(e.Title))
				if e.Why != "" {
					f(": %s", md(e.Why))
				}
				f("\n")
				if len(e.Lines) > 0 {
					f("\n")
				}
				for _, l := range e.Lines { // four blanks make it text as it is
					mark := "  "
					if l.Cited {
						mark = "> "
					}
					f("    %s%s %s\n", mark, l.Number, l.Text)
				}
			}
		}
		f("\n")
	}
	for _, pkg := range p.Packages {
		f("## What is in %s\n\n%s %s\n\n| item | kind | size | |\n|---|---|---|---|\n", md(pkg.Name), pkg.Size, pkg.Digest)
		for _, it := range pkg.Items {
			f("| %s%s | %s | %s | %s %s |\n", strings.Repeat("&nbsp;&nbsp;", it.Indent), md(it.Name), md(it.Kind), it.Size, md(it.Says), md(it.Bad))
		}
		if pkg.More > 0 {
			f("\nand %d more\n", pkg.More)
		}
		f("\n")
	}
	f("Made by fitcheck %s, %s.\n", p.Version, p.Made)
	_, err := io.WriteString(w, b.String())
	return err
}

func of(member string) string {
	if member == "" {
		return ""
	}
	return " (" + md(member) + ")"
}

// md escapes what Markdown would take for its own.
var mdEscape = strings.NewReplacer(`\`, `\\`, "`", "\\`", "*", `\*`, "_", `\_`, "|", `\|`, "<", "&lt;", "[", `\[`, "]", `\]`, "#", `\#`)

func md(t string) string { return mdEscape.Replace(t) }
