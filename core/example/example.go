// Package example holds the examples of rulebooks: questions with their right answers.
package example

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"fitcheck/core/archive"
	"fitcheck/core/device"
	"fitcheck/core/fact"
	"fitcheck/core/fit"
	"fitcheck/core/kit"
	"fitcheck/core/path"
	"fitcheck/core/rulebook"
	"fitcheck/core/survey"
	"fitcheck/core/wording"
)

// Result is what came of one example.
type Result struct {
	Source     fact.Source
	Asks       string // in words
	Want, Came string
	OK         bool
	// Missing: what it asks of is not at hand, so that nobody knows.
	Missing bool
}

// Run asks every example of a rulebook. survey reads a package of the kit.
func Run(ctx context.Context, k *kit.Kit, rb *rulebook.Rulebook, read func(ctx context.Context, name string) (*survey.Survey, error)) ([]Result, error) {
	var out []Result
	for i := range rb.Examples {
		x := &rb.Examples[i]
		r := Result{Source: rb.Source(x.Spot), Want: x.Want.Text()}
		var err error
		switch {
		case x.Capture.Set():
			err = r.capture(k, x)
		case x.To.Set():
			err = r.way(k, rb, x)
		default:
			err = r.offered(ctx, rb, x, read)
		}
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if err != nil {
			r.OK, r.Came = false, err.Error()
		}
		out = append(out, r)
	}
	return out, nil
}

func rulesOf(rb *rulebook.Rulebook) func(model string) *rulebook.Rulebook {
	return func(model string) *rulebook.Rulebook {
		if _, ok := rb.FindModel(model); ok {
			return rb
		}
		return nil
	}
}

func (r *Result) offered(ctx context.Context, rb *rulebook.Rulebook, x *rulebook.Example, read func(context.Context, string) (*survey.Survey, error)) error {
	r.Asks = fmt.Sprintf("%s and %s", x.Device.Model.Text, x.Package.Text)
	s, err := read(ctx, x.Package.Text)
	var open *archive.OpenError
	if errors.As(err, &open) && errors.Is(open.Err, fs.ErrNotExist) {
		r.Missing, r.Came = true, "the package is not at hand"
		return nil
	}
	if err != nil {
		return err
	}
	v := fit.MatchAll(x.Device, rulesOf(rb), []*survey.Survey{s}, fit.Options{})[0]
	r.Came = string(v.Outcome)
	want := x.Want.Texts[0].Text
	if !strings.Contains(want, ".") {
		r.OK = want == r.Came
		if !r.OK {
			r.Came += reasons(v)
		}
		return nil
	}
	var codes []string
	for _, c := range all(v) {
		r.OK = r.OK || c.Code == want
		if c.Outcome == v.Outcome && !slices.Contains(codes, c.Code) {
			codes = append(codes, c.Code)
		}
	}
	if r.Came = want; !r.OK {
		r.Came = strings.Join(codes, ", ")
	}
	return nil
}

func all(v *fit.Verdict) []fit.Check {
	out := slices.Clone(v.Checks)
	for _, m := range v.Members {
		out = append(out, m.Checks...)
	}
	return out
}

// reasons are the first few that decide a verdict.
func reasons(v *fit.Verdict) string {
	var out []string
	for _, c := range all(v) {
		if c.Outcome == v.Outcome && v.Outcome != fit.Fits && len(out) < 3 {
			out = append(out, c.Check+": "+c.Because)
		}
	}
	if len(out) == 0 {
		return ""
	}
	return " (" + strings.Join(out, "; ") + ")"
}

func (r *Result) way(k *kit.Kit, rb *rulebook.Rulebook, x *rulebook.Example) error {
	goal := path.Goal{Version: x.To.Text, Family: ""}
	if name, ok := strings.CutPrefix(x.To.Text, "certified:"); ok {
		goal.Set = k.Certified(name)
	}
	r.Asks = fmt.Sprintf("%s to %s", x.Device.Model.Text, x.To.Text)
	res, err := path.Find(path.Request{Device: x.Device, Rules: rulesOf(rb), Goal: goal, Options: path.Options{Plain: true}})
	if err != nil {
		return err
	}
	var hops []string
	for _, a := range res.Plans {
		for _, h := range a.Hops {
			if h.BootOnly {
				hops = append(hops, "boot:"+h.Release)
			} else {
				hops = append(hops, h.Release)
			}
		}
	}
	switch {
	case !res.Found() && len(res.Unsettled()) > 0:
		r.Came = "unsettled: " + res.Unsettled()[0]
	case !res.Found():
		r.Came = "none"
	case len(hops) == 0:
		r.Came = "runs it already"
	default:
		r.Came = strings.Join(hops, ", ")
	}
	want := x.Want.Text()
	r.OK = r.Came == want || len(hops) == 0 && res.Found() && want == "" || want == "unsettled" && strings.HasPrefix(r.Came, "unsettled: ")
	return nil
}

func (r *Result) capture(k *kit.Kit, x *rulebook.Example) error {
	r.Asks = x.Capture.Text
	file := filepath.Join(k.Dir, filepath.FromSlash(x.Capture.Text))
	if _, err := os.Stat(file); errors.Is(err, fs.ErrNotExist) {
		r.Missing, r.Came = true, "the capture is not at hand"
		return nil
	}
	data, err := kit.ReadText(file)
	if err != nil {
		return err
	}
	reading, err := device.ReadSource(x.Capture.Text, data, k.CaptureRules())
	if err != nil {
		return errors.New(wording.Text(err))
	}
	told := map[string][]string{}
	for _, f := range device.Merge([]*device.Reading{reading}, nil, nil, k).Findings {
		if f.Guess() {
			continue
		}
		for _, v := range f.Values {
			told[f.Key] = append(told[f.Key], v.Text)
		}
	}
	var came []string
	r.OK = true
	for _, e := range x.Want.Values.Entries {
		got := told[e.Key]
		if len(got) == 0 {
			came, r.OK = append(came, e.Key+": not told"), false
			continue
		}
		came = append(came, e.Key+": "+strings.Join(got, ", "))
		r.OK = r.OK && slices.ContainsFunc(got, func(t string) bool { return strings.EqualFold(t, e.Value.Text) })
	}
	r.Came = strings.Join(came, ", ")
	return nil
}
