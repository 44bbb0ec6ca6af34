package cli

import (
	"bufio"
	"context"
	"crypto/sha256"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"os/user"
	"slices"
	"strings"
	"sync"
	"time"

	"fitcheck/core/device"
	"fitcheck/core/fit"
	"fitcheck/core/follow"
	"fitcheck/core/kit"
	"fitcheck/core/plan"
	"fitcheck/core/serving"
	"fitcheck/internal/present"
	"fitcheck/internal/present/page"
)

// following is what runbook -follow is asked for.
type following struct {
	on                  bool
	answers, record, by string
	serve               string
	before              names
	server              serveCall
	c                   *call
	p                   *planning
	f                   *follow.Follower
	rec                 *follow.Record
	lines               <-chan string
	mu                  sync.Mutex // of what is told
	byWord              int
	last                follow.Verdict
	stopServing         func()
	served              <-chan struct{}
	devices             *device.Device
}

func (w *following) flags(f *flag.FlagSet) {
	f.BoolVar(&w.on, "follow", false, "go through the steps with you: shows one, takes a capture, says go on, wait or stop")
	f.StringVar(&w.answers, "answers", "", "with -follow: take the answers from this `file` instead of the terminal")
	f.StringVar(&w.record, "record", "", "with -follow: the `file` that the record is appended to; else DEVICE-VERSION.night.jsonl")
	f.StringVar(&w.by, "by", "", "with -follow: the `name` for the record; else the user's")
	f.Var(&w.before, "before", "with -follow: what was captured `before`, for what must not be new; may be given several times")
	f.StringVar(&w.serve, "serve", "", "with -follow: give out this staged `folder` from the first transfer on")
	w.server.flags(f)
}

// check finds flags that do not go together.
func (w *following) check() error {
	if w.on {
		if w.serve == "" {
			for name, a := range w.server.addresses {
				if *a != "" {
					return usagef("-%s goes with -serve: the staged folder that is given out", name)
				}
			}
		}
		return nil
	}
	for name, given := range map[string]bool{"answers": w.answers != "", "record": w.record != "", "by": w.by != "", "before": len(w.before) > 0, "serve": w.serve != ""} {
		if given {
			return usagef("-%s goes with -follow", name)
		}
	}
	return nil
}

// run follows a runbook.
//
// In one piece: the steps of the call, each of which may end it.
func (w *following) run(ctx context.Context, c *call, p *planning, t *plan.Target, book *plan.Runbook) (int, error) {
	w.c, w.p, w.f, w.devices = c, p, follow.New(t, book), t.Device
	if w.record == "" {
		w.record = strings.NewReplacer("/", "-", " ", "-").Replace(book.Device+"-"+book.To) + ".night.jsonl"
	}
	var number, tries int
	var err error
	if w.rec, number, tries, err = follow.OpenRecord(w.record, w.f); err != nil {
		return 0, err
	}
	defer w.rec.Close()
	if err := w.open(ctx); err != nil {
		return 0, err
	}
	begin := follow.Line{Event: follow.Begun, From: book.From, Program: Version}
	if number > 0 {
		w.f.TakeUp(number, tries)
		begin.Event, begin.Step = follow.TakenUp, w.f.Number()
	}
	begin.By, begin.Host = w.who()
	if err := w.tell(begin, present.FollowBegins(w.f, w.record, number > 0)); err != nil {
		return 0, err
	}
	defer w.endServing()
	for shown := -1; !w.f.Over(); {
		if err := w.serveFor(ctx); err != nil {
			return 0, err
		}
		if n := w.f.Number(); n != shown {
			shown = n
			in := w.f.Step()
			if err := w.tell(follow.Line{Event: follow.Shown, Step: n, Name: in.Step, Text: in.Text}, present.FollowStep(w.f)); err != nil {
				return 0, err
			}
		}
		again, err := w.answer(ctx)
		if errors.Is(err, io.EOF) || errors.Is(err, context.Canceled) {
			break
		}
		if err != nil {
			return 0, err
		}
		if again {
			shown = -1
		}
	}
	end := follow.Line{Event: follow.Left, Step: min(w.f.Number(), len(w.f.Steps))}
	if w.f.Over() {
		end = follow.Line{Event: follow.Ended}
	}
	if err := w.tell(end, present.FollowEnds(w.f, w.record, w.byWord)); err != nil {
		return 0, err
	}
	if ctx.Err() != nil {
		return 0, ctx.Err()
	}
	return map[fit.Outcome]int{fit.Fits: exitFits, fit.Misfit: exitMisfit, fit.Unsettled: exitUnsettled}[w.f.Status(w.last)], nil
}

func (w *following) who() (by, host string) {
	host, _ = os.Hostname()
	if by = w.by; by == "" {
		if u, err := user.Current(); err == nil {
			by = u.Username
		}
	}
	return by, host
}

// tell writes a line to the record, and shows it.
func (w *following) tell(l follow.Line, p *page.Page) error {
	l.Time, l.Device, l.To, l.Plan = time.Now().UTC().Truncate(time.Millisecond), w.f.Book.Device, w.f.Book.To, w.f.Plan()
	if err := w.rec.Add(l); err != nil {
		return fmt.Errorf("%s: the record could not be written: %w; nothing is gone on with that is not written down", w.record, err)
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.c.json {
		return present.WriteLine(w.c.env.Stdout, present.FollowLineJSON(l))
	}
	w.c.screen().Show(p)
	return nil
}

func (w *following) show(p *page.Page) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if !w.c.json {
		w.c.screen().Show(p)
	}
}

// open opens where the answers come from. The lines are read by a goroutine of their own, so
// that an interrupt is heard while nobody types.
func (w *following) open(ctx context.Context) error {
	var in io.Reader = w.c.env.stdin()
	if w.answers != "" {
		f, err := os.Open(w.answers)
		if err != nil {
			return fmt.Errorf("-answers: %w", err)
		}
		in = f
	}
	out := make(chan string)
	w.lines = out
	if w.c.env.engineer != nil {
		return nil
	}
	go func() {
		defer close(out)
		s := bufio.NewScanner(in)
		s.Buffer(nil, 1<<20)
		for s.Scan() {
			select {
			case out <- strings.TrimRight(s.Text(), "\r"):
			case <-ctx.Done():
				return
			}
		}
	}()
	return nil
}

func (w *following) line(ctx context.Context) (string, error) {
	select {
	case <-ctx.Done():
		return "", ctx.Err()
	case l, ok := <-w.lines:
		if !ok {
			return "", io.EOF
		}
		return l, nil
	}
}

// maxPasted bounds a capture that is pasted.
const maxPasted = 16 << 20

// answer takes one answer; show says that the step is to be shown once more.
func (w *following) answer(ctx context.Context) (show bool, err error) {
	if w.c.env.engineer != nil {
		return false, w.asked(ctx)
	}
	w.prompt()
	l, err := w.line(ctx)
	if err != nil {
		return false, err
	}
	fields := strings.Fields(l)
	word := ""
	if len(fields) > 0 {
		word = strings.ToLower(fields[0])
	}
	switch {
	case word == "" || strings.HasPrefix(word, "#"):
		return false, nil
	case word == "done" && len(fields) == 1:
		return false, w.judge(w.f.Say(), nil)
	case (word == "stop" || word == "quit") && len(fields) == 1:
		return false, io.EOF
	case word == "show" && len(fields) == 1:
		return true, nil
	case (word == "help" || word == "?") && len(fields) == 1:
		w.show(present.FollowHelp())
		return false, nil
	case word == "file" && len(fields) > 1:
		return false, w.files(fields[1:])
	}
	return false, w.pasted(ctx, l)
}

func (w *following) prompt() {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.answers == "" && w.c.env.StderrTerminal && !w.c.json {
		fmt.Fprint(w.c.env.Stderr, "> ")
	}
}

// asked takes an answer from who was put in place of the terminal: the text of a capture.
func (w *following) asked(ctx context.Context) error {
	lines, err := w.c.env.engineer.answer(ctx, w.f)
	if err != nil {
		return err
	}
	if len(lines) == 0 {
		return w.judge(w.f.Say(), nil)
	}
	return w.capture([]byte(strings.Join(lines, "\n")+"\n"), "pasted")
}

// pasted reads on to the line with a single dot, or to the end of the input.
func (w *following) pasted(ctx context.Context, first string) error {
	var b strings.Builder
	for l := first; l != "."; {
		b.WriteString(l)
		b.WriteByte('\n')
		if b.Len() > maxPasted {
			return fmt.Errorf("a capture of more than %d bytes was pasted; give it as a file", maxPasted)
		}
		var err error
		if l, err = w.line(ctx); errors.Is(err, io.EOF) {
			break
		} else if err != nil {
			return err
		}
	}
	return w.capture([]byte(b.String()), "pasted")
}

// files holds captures in files against the step.
func (w *following) files(files []string) error {
	said, err := captures(w.p.k, files)
	if err != nil {
		w.show(&page.Page{Document: true, Blocks: []page.Block{page.Title{Word: "NOT READ", Tone: page.Doubt, Text: err.Error()}}})
		return nil
	}
	var from []follow.Source
	for _, f := range files {
		data, err := kit.ReadText(f)
		if err != nil {
			continue // a folder
		}
		from = append(from, follow.Source{File: f, SHA256: fmt.Sprintf("%x", sha256.Sum256(data)), Bytes: len(data)})
	}
	return w.hold(said, from)
}

// capture holds a text against the step.
func (w *following) capture(data []byte, name string) error {
	said := &plan.Captured{}
	var readings []*device.Reading
	lines, err := device.Lines(name, data)
	if err == nil {
		said.Lines = lines
		if r, err := device.ReadSource(name, data, w.p.k.CaptureRules()); err == nil {
			readings = append(readings, r)
			said.Recognised = r.ByRule
		}
	}
	said.Draft = device.Merge(readings, nil, nil, w.p.k)
	return w.hold(said, []follow.Source{{File: name, SHA256: fmt.Sprintf("%x", sha256.Sum256(data)), Bytes: len(data)}})
}

func (w *following) hold(said *plan.Captured, from []follow.Source) error {
	for _, f := range w.p.before(w.devices, w.before) {
		lines, err := appendLines(said.Before, f)
		if err != nil {
			return err
		}
		said.Before = append([]device.TextLine{}, lines...)
	}
	v, err := w.f.Show(*said)
	if err != nil {
		return err
	}
	return w.judge(v, from)
}

// judge writes down and shows what an answer led to.
func (w *following) judge(v follow.Verdict, from []follow.Source) error {
	number := w.f.Number()
	if v.Outcome == follow.GoOn { // the step has been left behind
		number = w.f.Answered()
		if v.ByWord {
			w.byWord++
		}
	}
	w.last = v
	l := follow.Line{Event: follow.Answered, Step: number, Name: w.f.Steps[number-1].Step, Outcome: v.Outcome, ByWord: v.ByWord, Reason: v.Reason, Try: v.Try, Seen: from}
	if v.Answer != nil {
		l.Remedy = v.Answer.Remedy
		if v.Answer.Percent >= 0 {
			l.Percent = &v.Answer.Percent
		}
	}
	return w.tell(l, present.FollowVerdict(v, number))
}

// serveFor begins to give the staged files out at the first transfer.
func (w *following) serveFor(ctx context.Context) error {
	if w.serve == "" || w.stopServing != nil || !isTransfer(w.f.Step()) {
		return nil
	}
	folder, err := serving.Open(ctx, w.serve)
	if err != nil {
		return err
	}
	inner := *w.c
	inner.quiet = true // no live table: somebody types here
	session, done, err := w.server.begin(&inner, folder)
	if err != nil {
		folder.Close()
		return err
	}
	session.Tell = func(n serving.News) {
		w.mu.Lock()
		defer w.mu.Unlock()
		if doc := present.ServeNewsJSON(n); doc != nil {
			w.server.tell(&inner, doc, present.ServeNews(n))
		}
	}
	served, cancel := context.WithCancel(ctx)
	ended, ready := make(chan struct{}), make(chan error, 1)
	go func() {
		defer close(ended)
		defer folder.Close()
		defer done()
		err := session.Run(served, false, func() error { ready <- nil; return nil })
		if err != nil && served.Err() == nil {
			ready <- err
		}
	}()
	w.stopServing, w.served = cancel, ended
	select {
	case err := <-ready:
		if err != nil {
			return err
		}
	case <-ctx.Done():
		return ctx.Err()
	}
	shown := w.server.shown(session)
	w.mu.Lock()
	defer w.mu.Unlock()
	w.server.tell(&inner, present.ServeReadyJSON(shown, time.Now()), present.ServeReady(shown))
	return nil
}

// isTransfer tells a step at which the device asks for files.
func isTransfer(in plan.Instruction) bool {
	return in.Step == "transfer" || slices.ContainsFunc(in.Proofs, func(p plan.Proof) bool { return p.File != "" && len(p.Sums) == 0 })
}

func (w *following) endServing() {
	if w.stopServing != nil {
		w.stopServing()
		<-w.served
	}
}
