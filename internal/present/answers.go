package present

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"fitcheck/core/device"
	"fitcheck/core/fit"
	"fitcheck/core/fit/check"
	"fitcheck/core/shell"
	"fitcheck/core/wording"
	"fitcheck/internal/present/page"
)

// Answer is what came out for one device.
type Answer struct {
	Device *device.Device
	// Verdicts of the packages, the best first.
	Verdicts []*fit.Verdict
	// Instead is a package of the kit that fits where none of those given does; nil for none.
	Instead *Instead
	// Like is the first device that is like this one in all that a verdict rests on; nil where
	// this is the first. Shared: the verdicts are those of that one, and bear its name.
	Like   *device.Device
	Shared bool
}

// Instead is a package of the kit that fits, or did when it was last looked at.
type Instead struct {
	Package, Path string
	// Looked is when; zero for just now.
	Looked time.Time
}

// text says what is known of it. device is how the device is named in a command.
func (i *Instead) text(who, device string) string {
	if i.Looked.IsZero() {
		return fmt.Sprintf("%s of the kit (%s) fits %s: take that one", i.Package, i.Path, who)
	}
	return fmt.Sprintf("%s of the kit (%s) fitted %s when it was last looked at (%s); to check it: fitcheck match -device %s %s",
		i.Package, i.Path, who, i.Looked.Local().Format("2006-01-02 15:04"), shell.Quote(device), shell.Quote(i.Path))
}

// Name is the device's own.
func (a Answer) Name() string {
	if len(a.Verdicts) > 0 && !a.Shared {
		return a.Verdicts[0].Device
	}
	return a.Device.Name.Text
}

// AnswersPage tells the verdicts: of one device and one package that one; of several packages
// the table, the best first; of several devices a table of them. brief is one line a device.
func AnswersPage(all []Answer, e Evidence, brief bool) *page.Page {
	p := &page.Page{}
	switch {
	case len(all) == 1 && !brief:
		p.Name = all[0].Verdicts[0].Package + " and " + all[0].Verdicts[0].Device
		p.Lines = verdictLines(all[0].Verdicts[0])
		p.Blocks = e.answer(all[0])
		p.Unfolded = e != nil
	case brief:
		p.Blocks = summary(all, true)
		p.Document = true
	default:
		p.Name = wording.Count(len(all), "device")
		line := "-why shows each of them in full"
		if len(all) > maxRanked {
			line = "-brief lists each device, " + line
		}
		p.Blocks = append(summary(all, false), instead(all)...)
		p.Blocks = append(p.Blocks, page.Gap{}, page.Fold{Line: line, Title: "Each of them", Flag: page.Why, Wide: len(all) <= wideDevices, Inside: func() []page.Block {
			var out []page.Block
			for i, a := range all {
				if a.Like != nil {
					continue
				}
				if i > 0 {
					out = append(out, page.Rule{})
				}
				out = append(out, e.answer(a)...)
				if names := likeThis(a, all); len(names) > 0 {
					out = append(out, page.Gap{}, page.Line{Text: "The same holds for " + strings.Join(few(names), ", ") + ": like it in all that this rests on."})
				}
			}
			return out
		}})
	}
	return p
}

// instead says which packages of the kit fit devices that none of those given fits.
func instead(all []Answer) []page.Block {
	of, looked := map[string][]string{}, map[string]time.Time{}
	var paths []string
	for _, a := range all {
		v := a.Instead
		if v == nil {
			continue
		}
		if of[v.Path] == nil {
			paths = append(paths, v.Path)
		}
		if !v.Looked.IsZero() {
			looked[v.Path] = v.Looked
		}
		of[v.Path] = append(of[v.Path], a.Name())
	}
	var next []string
	for _, p := range paths {
		names := of[p]
		fits, check := "fits", ""
		if at, ok := looked[p]; ok {
			fits, check = "fitted", fmt.Sprintf(", when it was last looked at (%s); match them with it to check", at.Local().Format("2006-01-02 15:04"))
		}
		if len(names) == 1 {
			next = append(next, fmt.Sprintf("%s of the kit %s %s%s", p, fits, names[0], check))
			continue
		}
		next = append(next, fmt.Sprintf("%s of the kit %s %d of them: %s%s", p, fits, len(names), strings.Join(few(ranges(names)), ", "), check))
	}
	return whatNext(next)
}

// likeThis lists the devices that are like another.
func likeThis(a Answer, all []Answer) []string {
	var out []string
	for _, o := range all {
		if o.Like == a.Device {
			out = append(out, o.Device.Name.Text)
		}
	}
	return out
}

// wideDevices is how many devices a web page shows in full without being asked.
const wideDevices = 4

func (e Evidence) answer(a Answer) []page.Block {
	best := e.verdict(a.Verdicts[0], a.Instead, a.named())
	if len(a.Verdicts) == 1 {
		return best
	}
	out := ranking(a)
	return append(out, page.Gap{}, page.Fold{
		Line:  fmt.Sprintf("fitcheck match -device %s %s shows the best one, -why all that was checked of it", shell.Quote(a.named()), shell.Quote(a.Verdicts[0].Path)),
		Title: "The best of them", Flag: page.Why, Wide: true, Inside: func() []page.Block { return best },
	})
}

// maxRanked is how many rows of a list are shown.
const maxRanked = 28

// summary lists each device with its best package.
func summary(all []Answer, every bool) []page.Block {
	of := map[fit.Outcome]int{}
	t := page.Table{Columns: []page.Column{{Title: "device"}, {Title: "verdict"}, {Title: "best package", Fitting: page.CutFront}, {Title: "because", Fitting: page.Cut}}, Most: maxRanked, Flag: page.Why, Noun: "rows"}
	if every {
		t.Most = 0
	}
	word := fit.Fits
	if !every { // misfits first
		all = slices.Clone(all)
		slices.SortStableFunc(all, func(a, b Answer) int { return b.Verdicts[0].Outcome.Rank() - a.Verdicts[0].Outcome.Rank() })
	}
	for _, a := range all {
		v := a.Verdicts[0]
		of[v.Outcome]++
		word = fit.Worse(word, v.Outcome)
		t.Rows = append(t.Rows, []page.Span{{Text: a.Device.Name.Text}, {Text: strings.ToUpper(string(v.Outcome)), Tone: toneOf(v.Outcome)}, {Text: v.Package}, {Text: reasonOf(v)}})
	}
	if !every && len(t.Rows) > maxRanked {
		t.Rows = alike(t.Rows, all)
	}
	return []page.Block{page.Title{Word: strings.ToUpper(string(word)), Tone: toneOf(word),
		Text: fmt.Sprintf("%s: %d fit, %d do not, %d are not settled", wording.Count(len(all), "device"), of[fit.Fits], of[fit.Misfit], of[fit.Unsettled])}, t}
}

// alike joins the rows of devices of one kind for which the same came out: "14 × VR-310 v2 at 4.1.0".
func alike(rows [][]page.Span, all []Answer) [][]page.Span {
	var out [][]page.Span
	names := map[int][]string{}
	kinds := map[int]string{}
	at := map[string]int{}
	for i, r := range rows {
		kind := kindOf(all[i].Device)
		key := kind + fmt.Sprint(r[1:])
		n, ok := at[key]
		if !ok {
			n = len(out)
			at[key], kinds[n] = n, kind
			out = append(out, slices.Clone(r))
		}
		names[n] = append(names[n], r[0].Text)
	}
	for n, list := range names {
		if len(list) > 1 {
			out[n][0].Text = fmt.Sprintf("%d × %s", len(list), cmp.Or(kinds[n], list[0]+" and others"))
		}
	}
	return out
}

// kindOf is what a device is, in short: model, revision and what runs; of a group its members'.
func kindOf(d *device.Device) string {
	var models []string
	for _, b := range d.All() {
		t := b.Model.Text
		if b.Revision.Set() {
			t += " " + b.Revision.Text
		}
		if !slices.Contains(models, t) {
			models = append(models, t)
		}
	}
	out := strings.Join(models, ", ")
	if len(d.Members) > 0 {
		out = d.Group.Text + " of " + out
	}
	if v, ok := d.All()[0].Version("main"); ok {
		out += " at " + v.Value
	}
	return out
}

// reasonOf is why a verdict came out as it did, in the words of the worst of its reasons:
// what device an image is for before what proves it.
func reasonOf(v *fit.Verdict) string {
	all := allChecks(v)
	if v.Outcome == fit.Fits {
		if v.RunsAlready() {
			return "it runs it already"
		}
		return "all checks"
	}
	best := -1
	for i, c := range all {
		if c.Outcome == v.Outcome && (best < 0 || check.Find(c.Check).Far > check.Find(all[best].Check).Far) {
			best = i
		}
	}
	if best < 0 {
		return strings.Join(v.Deciding(), ", ")
	}
	c := all[best]
	if strings.HasSuffix(c.Code, ".excluded") { // both values, where there is little room
		return fmt.Sprintf("%s: for %s, not %s", c.Check, c.Package, c.Device)
	}
	return c.Check + ": " + inText(v.Package, c.Because)
}

// named is how the device was given, as the command line takes it.
func (a Answer) named() string {
	if a.Device == nil {
		return a.Verdicts[0].Device
	}
	if a.Device.File != "" {
		return a.Device.File
	}
	return a.Device.Name.Text
}

// ranking lists the packages, the best first.
func ranking(a Answer) []page.Block {
	best := a.Verdicts[0]
	head := fmt.Sprintf("none of the %d packages fits %s", len(a.Verdicts), best.Device)
	if best.Outcome == fit.Fits {
		head = fmt.Sprintf("%s is the best of %d for %s", best.Package, len(a.Verdicts), best.Device)
	}
	t := page.Table{Columns: []page.Column{{Title: "verdict"}, {Title: "release"}, {Title: "package", Fitting: page.CutFront}, {Title: "because", Fitting: page.Cut}}, Most: maxRanked, Flag: page.Why, Noun: "packages"}
	named := map[string]int{}
	for _, v := range a.Verdicts {
		named[v.Package]++
	}
	for _, v := range a.Verdicts {
		name := v.Package
		if named[name] > 1 { // the path tells them apart
			name = v.Path
		}
		t.Rows = append(t.Rows, []page.Span{{Text: string(v.Outcome), Tone: toneOf(v.Outcome)}, {Text: v.Release}, {Text: name}, {Text: reasonOf(v)}})
	}
	return []page.Block{page.Title{Word: strings.ToUpper(string(best.Outcome)), Tone: toneOf(best.Outcome), Text: head}, t}
}
