package cli

import (
	"flag"
	"fmt"
	"io"
	"strings"
)

// Manual pages are written in the man macros, groff_man(7).

// roff keeps a text from being read as requests or escapes.
func roff(t string) string {
	lines := strings.Split(strings.NewReplacer(`\`, `\e`, "-", `\-`).Replace(t), "\n")
	for i, l := range lines {
		if strings.HasPrefix(l, ".") || strings.HasPrefix(l, "'") {
			lines[i] = `\&` + l
		}
	}
	return strings.Join(lines, "\n")
}

func manHead(w io.Writer, name, short string) {
	fmt.Fprintf(w, ".TH %s 1 \"\" \"Fit Check\" \"Fit Check\"\n.SH NAME\n%s \\- %s\n", strings.ToUpper(roff(name)), roff(name), roff(short))
}

// overviewMan writes fitcheck(1).
func overviewMan(w io.Writer) {
	manHead(w, "fitcheck", "does this firmware fit this device?")
	fmt.Fprintf(w, ".SH SYNOPSIS\n.B fitcheck\n.I COMMAND\n[flags] ARGS\n.SH DESCRIPTION\n%s\n", roff(about))
	names, of := parts()
	for _, part := range names {
		fmt.Fprintf(w, ".SS %s\n", roff(part))
		for _, cmd := range of[part] {
			fmt.Fprintf(w, ".TP\n.BR fitcheck\\-%s (1)\n%s\n", cmd.name, roff(sentence(cmd.short)))
		}
	}
	manStatus(w)
	fmt.Fprintf(w, ".SH ENVIRONMENT\n.TP\n.B FITCHECK_KIT\nthe folder with rulebooks/, devices/ and packages/\n.TP\n.B NO_COLOR\nno colours on a terminal\n")
}

// man writes fitcheck-COMMAND(1).
func (cmd *command) man(w io.Writer) {
	manHead(w, "fitcheck-"+cmd.name, cmd.short)
	fmt.Fprintf(w, ".SH SYNOPSIS\n.B %s\n%s\n", roff("fitcheck "+cmd.name), roff(cmd.args))
	if cmd.long != "" {
		fmt.Fprintf(w, ".SH DESCRIPTION\n%s\n", roff(strings.TrimSpace(cmd.long)))
	}
	fmt.Fprint(w, ".SH OPTIONS\nThey stand before or after the arguments.\n")
	cmd.allFlags().VisitAll(func(f *flag.Flag) {
		value, usage := flag.UnquoteUsage(f)
		fmt.Fprintf(w, ".TP\n.B %s\n", strings.TrimSpace(roff("-"+f.Name)+` \fI`+roff(value)+`\fR`))
		if value == "" {
			fmt.Fprintf(w, "%s\n", roff(usage))
			return
		}
		if d := f.DefValue; d != "" && d != "0" && d != "false" {
			usage += " (default " + d + ")"
		}
		fmt.Fprintf(w, "%s\n", roff(usage))
	})
	if cmd.example != "" {
		fmt.Fprintf(w, ".SH EXAMPLE\nIn the kit that\n.B fitcheck demo DIR\nwrites:\n.PP\n.RS\n.nf\n%s\n.fi\n.RE\n", roff("fitcheck "+cmd.example))
	}
	manStatus(w)
	fmt.Fprint(w, ".SH SEE ALSO\n.BR fitcheck (1)\n")
}

func manStatus(w io.Writer) {
	fmt.Fprint(w, ".SH EXIT STATUS\n")
	for _, s := range statuses {
		fmt.Fprintf(w, ".TP\n.B %s\n%s\n", s.number, roff(s.means))
	}
}
