package rescue

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"time"

	"fitcheck/core/tftp"
	"fitcheck/core/transport"
	"fitcheck/core/wording"
)

// Event is something that happened.
type Event struct {
	At   time.Duration // since the beginning
	Kind Kind
	Text string
}

// Kind of an event.
type Kind int

// The kinds, for how they are shown.
const (
	Seen   Kind = iota // something else answers now
	Begun              // the transfer begins
	Failed             // it failed, and is tried again
	Sent               // the image is over
	Back               // the new system answers
	Thrown             // the device did not take the image
)

// Ending is what became of the device once the image was over.
type Ending int

// The endings. Only what the new system alone does shows that it is back.
const (
	NotSeen    Ending = iota // nothing answered, or nobody could ask
	Answers                  // something answers; what it is, a capture of its console tells
	IsBack                   // what answers is what the new system does
	ThrownAway               // the boot loader answers again, or nothing ever fell silent
)

// Watch is one attempt to bring a device back.
type Watch struct {
	Prober Prober // nil: there is none, and the transfer's answer alone tells
	// Waits is the time to live of the boot loader's replies, Old that of the
	// system that does not get far, New that of the one that is to answer in the
	// end; 0 when it is not known.
	Waits, Old, New int

	Image  []byte
	SHA256 string // of the image that was checked
	Name   string
	Device *net.UDPAddr // where the boot loader takes the image
	// Serve: the boot loader fetches it from Listen.
	Serve  bool
	Listen net.PacketConn

	Transfer tftp.Options
	// For is how long to try, Settle how long the device writes and restarts.
	For, Settle time.Duration
	Tell        func(Event)
	Progress    func(done, total int64)

	begun time.Time
	over  bool // the image went over
	alike bool // what ran before answered as the new system is to
}

// ErrGivenUp: the boot loader never took the image.
var ErrGivenUp = errors.New("the boot loader did not take the image in the time that was given")

func (w *Watch) tell(k Kind, format string, args ...any) {
	if w.Tell != nil {
		w.Tell(Event{time.Since(w.begun), k, fmt.Sprintf(format, args...)})
	}
}

// probeEvery is how often is asked what answers.
const probeEvery = 250 * time.Millisecond

// Run watches until the image is over and it is clear what became of the
// device, or the time is up.
func (w *Watch) Run(ctx context.Context) (Ending, error) {
	w.begun = time.Now()
	sum := sha256.Sum256(w.Image)
	if hex.EncodeToString(sum[:]) != w.SHA256 {
		return NotSeen, errors.New("the image is not the one that was checked; nothing was sent")
	}
	over, cancel := context.WithTimeout(ctx, w.For)
	defer cancel()
	var err error
	if w.Serve {
		err = w.serve(over)
	} else {
		err = w.push(over)
	}
	if err != nil {
		if ctx.Err() == nil && over.Err() != nil {
			return NotSeen, ErrGivenUp
		}
		return NotSeen, err
	}
	w.over = true
	w.tell(Sent, "the image is over: %d bytes, sha256 %s; keep the power on", len(w.Image), w.SHA256)
	return w.settle(ctx)
}

// tellsNew: an answer of the new system can be told from that of the old one.
func (w *Watch) tellsNew() bool { return w.New > 0 && w.New != w.Old && !w.alike }

// seen names what answers.
func (w *Watch) seen(ttl int, err error) string {
	switch {
	case err != nil:
		return "nothing answers"
	case w.Waits > 0 && ttl == w.Waits:
		return fmt.Sprintf("the boot loader waits (time to live %d)", ttl)
	case w.over && w.tellsNew() && ttl == w.New:
		return fmt.Sprintf("the new system answers (time to live %d)", ttl)
	case w.over && w.Old > 0 && ttl == w.Old:
		return fmt.Sprintf("it answers as the old system did (time to live %d)", ttl)
	case w.Old > 0 && ttl == w.Old:
		return fmt.Sprintf("the old system answers, not the boot loader (time to live %d)", ttl)
	case !w.over && w.New > 0 && ttl == w.New: // before there is a new system: this is no sign of it
		w.alike = true
		return fmt.Sprintf("what answers is not the boot loader, and answers as the new system is to (time to live %d)", ttl)
	case ttl > 0:
		return fmt.Sprintf("something answers that is not known (time to live %d)", ttl)
	}
	return "something answers"
}

// ready tells whether the image may be pushed, as far as the signs tell.
func (w *Watch) ready(ttl int, err error) bool {
	switch {
	case w.Prober == nil:
		return true
	case err != nil:
		return false
	case w.Waits > 0:
		return ttl == w.Waits
	}
	return ttl == 0 || ttl != w.Old
}

func (w *Watch) push(ctx context.Context) error {
	last := ""
	for {
		if err := ctx.Err(); err != nil {
			return err
		}
		ttl, perr := 0, error(nil)
		if w.Prober != nil {
			ttl, perr = w.Prober.Probe(ctx, probeEvery)
			if errors.Is(perr, context.Canceled) || errors.Is(perr, context.DeadlineExceeded) {
				return perr
			}
			if now := w.seen(ttl, perr); now != last {
				last = now
				w.tell(Seen, "%s", now)
			}
		}
		if !w.ready(ttl, perr) {
			_ = pause(ctx, probeEvery)
			continue
		}
		if w.Prober != nil {
			w.tell(Begun, "sending %s", w.Name)
		} else if last == "" {
			last = "sending"
			w.tell(Begun, "there is no way to ping here: sending %s until it is taken", w.Name)
		}
		o := w.Transfer
		o.Progress = func(done, total int64) {
			if w.Progress != nil {
				w.Progress(done, total)
			}
		}
		err := transport.PushTFTP(ctx, w.Device, w.Name, bytes.NewReader(w.Image), int64(len(w.Image)), o)
		if err == nil {
			return nil
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if w.Prober != nil || !errors.Is(err, transport.ErrNoAnswer) {
			w.tell(Failed, "it was not taken: %s; trying again", wording.Text(err))
		}
		_ = pause(ctx, probeEvery)
	}
}

// offered is the one file that is offered to a boot loader.
type offered struct{ *bytes.Reader }

func (i offered) Size() int64 { return i.Reader.Size() }
func (offered) Sound() error  { return nil }
func (offered) Close() error  { return nil }

// Open implements transport.Shelf: the image, by the very name that the boot loader asks by.
func (w *Watch) Open(name string) (transport.File, string, error) {
	if name != w.Name {
		return nil, "", &transport.Refusal{Reason: transport.NotThere, Text: fmt.Sprintf("the device asks for %q, and only %s is offered", name, w.Name)}
	}
	return offered{bytes.NewReader(w.Image)}, name, nil
}

// serve offers the image, and nothing else, to the device, and to nobody else.
func (w *Watch) serve(ctx context.Context) error {
	inner, stop := context.WithCancel(ctx)
	done := make(chan error, 8)
	var only net.IP
	if w.Device != nil {
		only = w.Device.IP
	}
	offer := transport.OfferTFTP(w.Listen, w.Transfer, only)
	take := func(e transport.Event) {
		switch e.Kind {
		case transport.Refused:
			w.tell(Failed, "%s", e.Why)
		case transport.Asked:
			w.tell(Begun, "the device fetches %s", e.Name)
		case transport.Whole:
			done <- nil
		case transport.Broken:
			done <- errors.New(e.Why)
		}
		if w.Progress != nil && e.Name != "" {
			w.Progress(e.Done, e.Size)
		}
	}
	ended := make(chan struct{})
	var failed error
	go func() {
		defer close(ended)
		failed = offer.Serve(inner, w, take)
	}()
	defer func() {
		stop()
		<-ended
	}()
	last := ""
	for {
		select {
		case err := <-done:
			if err == nil {
				return nil
			}
			w.tell(Failed, "it was not fetched whole: %s; waiting for the next time", wording.Text(err))
		case <-ended:
			return cmp.Or(failed, ctx.Err())
		case <-ctx.Done():
			return ctx.Err()
		default:
		}
		if w.Prober == nil {
			_ = pause(ctx, probeEvery)
			continue
		}
		ttl, perr := w.Prober.Probe(ctx, probeEvery)
		if now := w.seen(ttl, perr); now != last && ctx.Err() == nil {
			last = now
			w.tell(Seen, "%s", now)
		}
		_ = pause(ctx, probeEvery)
	}
}

// settle waits until it is clear what became of the device, as long as it may
// take. A device that writes an image and restarts falls silent meanwhile; one
// that threw the image away does not, or its boot loader answers once more.
func (w *Watch) settle(ctx context.Context) (Ending, error) {
	if w.Prober == nil {
		w.tell(Seen, "there is no way to see it restart; wait %s, then look at its console", w.Settle)
		return NotSeen, nil
	}
	until := time.Now().Add(w.Settle)
	last, silent, answered := "", false, false
	for time.Now().Before(until) {
		ttl, err := w.Prober.Probe(ctx, probeEvery)
		if ctx.Err() != nil {
			return NotSeen, ctx.Err()
		}
		if now := w.seen(ttl, err); now != last {
			last = now
			w.tell(Seen, "%s", now)
		}
		switch {
		case err != nil:
			silent, answered = true, false
		case w.tellsNew() && ttl == w.New:
			w.tell(Back, "the new system answers (time to live %d)", ttl)
			return IsBack, nil
		case w.Waits > 0 && ttl == w.Waits && silent:
			w.tell(Thrown, "the boot loader waits again: it did not keep the image")
			return ThrownAway, nil
		default:
			answered = true
			if silent && !w.tellsNew() {
				w.tell(Seen, "it answers again; nothing tells from here what it runs")
				return Answers, nil
			}
		}
		_ = pause(ctx, probeEvery)
	}
	switch {
	case !silent:
		w.tell(Thrown, "it never fell silent, as a device does that writes an image and restarts")
		return ThrownAway, nil
	case answered:
		return Answers, nil
	}
	return NotSeen, nil
}
