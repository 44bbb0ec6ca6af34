package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/google/renameio/v2/maybe"

	"fitcheck/demo"
	"fitcheck/internal/present"
)

var demoCommand = register(&command{
	name: "demo", order: 170, args: "[DIR]", tells: true,
	part: partRest, example: "demo kit",
	short: "show what it does, on a made-up kit",
	long: `Tells the story of the Brackwater Tramway in five scenes, each a command and what it
prints, on a kit in a temporary folder that is removed again; -all tells all of it. With
DIR it writes the kit there, runs nothing, and says where to begin. A file of DIR that differs
is not replaced without -replace. The exit status is 0 when every case came out as the
story says.`,
})

func init() {
	demoCommand.setup = func(f *flag.FlagSet) func(context.Context, *call, []string) (int, error) {
		all := f.Bool("all", false, "tell the whole story")
		replace := f.Bool("replace", false, "replace files of DIR that differ")
		return func(ctx context.Context, c *call, args []string) (int, error) {
			if len(args) > 1 {
				return 0, usagef("demo takes one folder, and %d are given", len(args))
			}
			dir := ""
			if len(args) == 1 {
				dir = args[0]
			} else {
				temp, err := os.MkdirTemp("", "fitcheck-demo-")
				if err != nil {
					return 0, err
				}
				defer os.RemoveAll(temp)
				dir = temp
			}
			if err := writeKit(ctx, dir, *replace); err != nil {
				return 0, err
			}
			if len(args) == 1 && !*all {
				return c.kitWritten(dir)
			}
			return c.story(ctx, dir, len(args) == 1, *all)
		}
	}
}

// writeKit writes the kit's files, each to a temporary name first. Nothing is
// written when a file that differs is in the way.
func writeKit(ctx context.Context, dir string, replace bool) error {
	var missing []demo.File
	for _, f := range demo.Kit() {
		path := filepath.Join(dir, filepath.FromSlash(f.Path))
		have, err := os.ReadFile(path)
		switch {
		case err == nil && bytes.Equal(have, f.Data):
			continue
		case err == nil && !replace:
			return fmt.Errorf("%s: there is a different file already; give an empty folder, or -replace", path)
		case err != nil && !errors.Is(err, os.ErrNotExist):
			return err
		}
		missing = append(missing, f)
	}
	for _, f := range missing {
		if err := ctx.Err(); err != nil {
			return err
		}
		path := filepath.Join(dir, filepath.FromSlash(f.Path))
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return err
		}
		if err := maybe.WriteFile(path, f.Data, 0o644); err != nil {
			return err
		}
	}
	return nil
}

// kitWritten says where to begin with a kit that was written.
func (c *call) kitWritten(dir string) (int, error) {
	files := len(demo.Kit())
	if c.json {
		return exitFits, present.WriteJSON(c.env.Stdout, present.DemoKitJSON(dir, files))
	}
	var begin []string
	for _, d := range demo.Story() {
		if d.Scene {
			begin = append(begin, "fitcheck "+strings.Join(d.Args, " "))
		}
	}
	c.show(present.DemoKit(dir, files, begin))
	return exitFits, nil
}

// story runs the cases inside the kit, so that the paths shown are those that
// one would type there.
//
// In one piece: the steps of the call, each of which may end it.
func (c *call) story(ctx context.Context, dir string, keep, all bool) (int, error) {
	back, err := os.Getwd()
	if err != nil {
		return 0, err
	}
	if err := os.Chdir(dir); err != nil {
		return 0, err
	}
	defer os.Chdir(back)

	c.env.Cache = "" // nothing is left behind
	s := c.screen()
	var results []present.DemoCase
	cases := demo.Story()
	if !all {
		cases = slices.DeleteFunc(slices.Clone(cases), func(d demo.Case) bool { return !d.Scene })
	}
	for i, d := range cases {
		if err := ctx.Err(); err != nil {
			return 0, err
		}
		if w, ok := c.env.Stdout.(*checkedWriter); ok && w.err != nil {
			return 0, w.err // nobody reads on
		}
		if d, err = withPorts(d); err != nil {
			return 0, err
		}
		args := append([]string{d.Args[0], "-kit", "."}, d.Args[1:]...)
		if !c.json {
			if d.Console != "" { // a record of an earlier run is not taken up
				_ = os.Remove("tonight.jsonl")
			}
			s.Show(present.ScenePage(i+1, len(cases), d.Tale, "fitcheck "+strings.Join(d.Args, " ")))
			stop := beside(ctx, d)
			seat := seated(c.env, d)
			status := Run(ctx, args, seat)
			seat.engineer.close()
			stop()
			if d.Console != "" && !keep {
				_ = os.Remove("tonight.jsonl")
			}
			if len(d.Beside) > 0 || d.Verdict == "" && len(d.Hops) == 0 { // what happens live happens once; else only a verdict is looked at
				results = append(results, present.DemoCase{Case: d.Name, Command: "fitcheck " + strings.Join(d.Args, " "), Expected: expected(d.Exit, "", nil, nil), Got: expected(status, "", nil, nil), OK: status == d.Exit})
				continue
			}
		}
		stop := beside(ctx, d)
		results = append(results, judged(ctx, d, args, c.env))
		stop()
	}
	status := exitFits
	for _, r := range results {
		if !r.OK {
			status = exitMisfit
		}
	}
	if c.json {
		return status, present.WriteJSON(c.env.Stdout, present.DemoJSON(results))
	}
	where := ""
	if keep {
		where = dir
	}
	if !all && status == exitFits {
		s.Show(present.DemoEnd(len(demo.Story())))
		return status, nil
	}
	s.Show(present.DemoSummary(results, where))
	return status, nil
}

// withPorts gives a case ports that are free.
func withPorts(d demo.Case) (demo.Case, error) {
	if len(d.Beside) == 0 {
		return d, nil
	}
	var ports []string
	for len(ports) < 2 {
		conn, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
		if err != nil {
			return d, err
		}
		defer conn.Close()
		port := conn.LocalAddr().(*net.UDPAddr).Port
		if l, err := net.ListenTCP("tcp4", &net.TCPAddr{IP: net.IPv4(127, 0, 0, 1), Port: port}); err == nil { // free for both
			defer l.Close()
			ports = append(ports, strconv.Itoa(port))
		}
	}
	fill := func(args []string) []string {
		out := slices.Clone(args)
		for i, a := range out {
			out[i] = strings.NewReplacer("PORT", ports[0], "ECHO", ports[1]).Replace(a)
		}
		return out
	}
	d.Args, d.Beside, d.Console = fill(d.Args), fill(d.Beside), fill([]string{d.Console})[0]
	return d, nil
}

// seated puts somebody at the console of the device that is upgraded, where a case has one.
func seated(env Env, d demo.Case) Env {
	if d.Console != "" {
		env.engineer = &engineer{address: d.Console, prompt: "cabinet-07> ", shows: "show system"}
	}
	return env
}

// beside runs the command that a case has beside it, until it is stopped.
func beside(ctx context.Context, d demo.Case) (stop func()) {
	if len(d.Beside) == 0 {
		return func() {}
	}
	inner, cancel := context.WithCancel(ctx)
	done := make(chan struct{})
	go func() {
		defer close(done)
		Run(inner, append([]string{d.Beside[0], "-kit", "."}, d.Beside[1:]...), Env{Stdout: io.Discard, Stderr: io.Discard})
	}()
	return func() {
		cancel()
		<-done
	}
}

// judged runs a case for its JSON and holds it against the story.
func judged(ctx context.Context, d demo.Case, args []string, env Env) present.DemoCase {
	r := present.DemoCase{Case: d.Name, Command: "fitcheck " + strings.Join(d.Args, " "), Expected: expected(d.Exit, d.Verdict, d.Deciding, d.Hops)}
	var out bytes.Buffer
	status := Run(ctx, append(args, "-json"), seated(Env{Stdout: &out, Stderr: env.Stderr}, d))
	var doc struct {
		Verdict string
		Results []demoResult
		demoResult
	}
	if d.Console != "" { // it tells line by line
		r.Got = expected(status, "", nil, nil)
		r.OK = status == d.Exit
		return r
	}
	if err := json.Unmarshal(out.Bytes(), &doc); err != nil {
		r.Got = fmt.Sprintf("exit %d, no JSON: %v", status, err)
		return r
	}
	if len(doc.Results) > 0 {
		doc.demoResult = doc.Results[0] // the best one
	}
	var hops []string
	for _, h := range doc.Hops {
		if h.BootOnly {
			h.Release = "boot:" + h.Release
		}
		hops = append(hops, h.Release)
	}
	all := doc.Checks
	var members []struct{ Checks []demoCheck }
	_ = json.Unmarshal(doc.Members, &members) // path lists names there
	for _, m := range members {
		all = append(all, m.Checks...)
	}
	var deciding []string
	for _, ch := range all {
		if ch.Outcome == doc.Verdict && !slices.Contains(deciding, ch.Check) {
			deciding = append(deciding, ch.Check)
		}
	}
	r.Got = expected(status, doc.Verdict, deciding, hops)
	r.OK = status == d.Exit && doc.Verdict == d.Verdict && slices.Equal(hops, d.Hops)
	for _, want := range d.Deciding {
		r.OK = r.OK && slices.Contains(deciding, want)
	}
	return r
}

// demoResult is what one device came to.
type demoResult struct {
	Checks  []demoCheck
	Members json.RawMessage
	Hops    []struct {
		Release  string
		BootOnly bool `json:"boot_only"`
	}
}

type demoCheck struct{ Check, Outcome string }

func expected(exit int, verdict string, deciding, hops []string) string {
	t := fmt.Sprintf("exit %d", exit)
	if verdict != "" {
		t += ", " + verdict + " by " + strings.Join(deciding, ", ")
	}
	if len(hops) > 0 {
		t += ", by way of " + strings.Join(hops, ", ")
	}
	return t
}
