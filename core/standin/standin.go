// Package standin is a device that does not start, for trials: it goes through
// the states of a real one, answers echo requests with the time to live of
// each, and takes an image by TFTP while its boot loader waits. What it should
// not take it drops without a word, as real ones do.
package standin

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/net/ipv4"

	"fitcheck/core/duration"
	"fitcheck/core/image"
	"fitcheck/core/rulebook"
	"fitcheck/core/tftp"
	"fitcheck/core/wording"
)

// State is what the device is doing.
type State string

// The states, in their order. A device that is not given an image while it
// waits goes back to its old system, which does not get far.
const (
	Old       State = "the old system answers"
	Dead      State = "silent"
	Waiting   State = "the boot loader waits"
	Receiving State = "receiving"
	Writing   State = "writing"
	Restarted State = "restarted"
)

// StandIn is one such device.
type StandIn struct {
	Rule    *rulebook.Recovery
	Rules   *rulebook.Rulebook // whose models and revisions titles may name; nil for none
	Model   string
	Board   string // hardware revision, "" for any
	Formats *image.Set
	// Echo is where it answers echo requests, nil for nowhere; Boot where it takes
	// images.
	Echo *net.UDPConn
	Boot net.PacketConn
	// Open opens the socket of a transfer; nil takes any port of Boot's address.
	Open func() (net.PacketConn, error)
	// How long it stays in its states.
	OldFor, DeadFor, WaitFor, WriteFor time.Duration
	// Loss is how many of a hundred packets are lost.
	Loss int
	// Tell is told of every state, and of what was dropped and why.
	Tell func(State, string)
	// Seen, where it is set, is told once that it answered after it restarted.
	Seen func()

	mu    sync.Mutex
	state State
	got   []byte
	// intake is what is being received.
	intake *intake
}

// State tells what it is doing.
func (s *StandIn) State() State {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.state
}

// Image is what it runs after it was written.
func (s *StandIn) Image() []byte {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.got
}

func (s *StandIn) enter(state State, text string) {
	s.mu.Lock()
	s.state = state
	s.mu.Unlock()
	if s.Tell != nil {
		s.Tell(state, text)
	}
}

// Run runs it until the context ends.
func (s *StandIn) Run(ctx context.Context) error {
	taken := make(chan []byte, 1)
	var wg sync.WaitGroup
	defer wg.Wait()
	if s.Echo != nil {
		wg.Go(func() { s.echo(ctx) })
	}
	boot := s.Boot
	if s.Loss > 0 {
		boot = &losing{PacketConn: s.Boot, percent: s.Loss}
	}
	server := &tftp.Server{Conn: &deaf{PacketConn: boot, s: s}, Options: tftp.Options{BlockSize: s.blockSize(), Timeout: time.Second, Retries: 8, Limit: s.largest()},
		Listen: s.listen,
		Receive: func(from *net.UDPAddr, name string, size int64) (io.WriteCloser, error) {
			if s.State() != Waiting {
				return nil, errors.New("not now")
			}
			s.enter(Receiving, fmt.Sprintf("%s from %s", name, from))
			s.mu.Lock()
			defer s.mu.Unlock()
			s.intake = &intake{}
			return s.intake, nil
		}}
	server.Done = func(_ *net.UDPAddr, _ string, n int64, err error) {
		if s.State() != Receiving {
			return
		}
		if err != nil {
			s.enter(Waiting, "the transfer broke off: "+wording.Text(err))
			return
		}
		s.mu.Lock()
		data := s.intake.Bytes()
		s.mu.Unlock()
		if why := s.Refuses(data); why != "" {
			s.enter(Waiting, "dropped: "+why)
			return
		}
		taken <- data
	}
	wg.Go(func() { _ = server.Serve(ctx) })
	return s.live(ctx, taken)
}

// live goes through the states.
func (s *StandIn) live(ctx context.Context, taken <-chan []byte) error {
	stay := func(d time.Duration) bool {
		select {
		case <-ctx.Done():
			return false
		case <-time.After(d):
			return true
		}
	}
	for ctx.Err() == nil {
		s.enter(Old, "it answers, and does not get far")
		if !stay(s.OldFor) {
			return nil
		}
		s.enter(Dead, "it restarts")
		if !stay(s.DeadFor) {
			return nil
		}
		s.enter(Waiting, "for "+duration.Text(s.WaitFor))
		until := time.After(s.WaitFor)
	waiting:
		for {
			select {
			case <-ctx.Done():
				return nil
			case data := <-taken:
				s.enter(Writing, fmt.Sprintf("%d bytes", len(data)))
				if !stay(s.WriteFor) {
					return nil
				}
				s.mu.Lock()
				s.got = data
				s.mu.Unlock()
				s.enter(Restarted, "it runs the new image")
				<-ctx.Done()
				return nil
			case <-until:
				if s.State() == Receiving { // not in the middle of a transfer
					until = time.After(100 * time.Millisecond)
					continue
				}
				break waiting
			}
		}
	}
	return nil
}

// TTL is the time to live of its replies now; 0 when it does not answer.
func (s *StandIn) TTL() int {
	or := func(ttl, other int) int {
		if ttl > 0 {
			return ttl
		}
		return other
	}
	switch s.State() {
	case Old:
		return or(s.Rule.NotYet.PingTTL, 64)
	case Restarted:
		return or(s.Rule.Afterwards.Signs.PingTTL, or(s.Rule.NotYet.PingTTL, 64))
	case Waiting, Receiving:
		return or(s.Rule.Signs.PingTTL, 255)
	}
	return 0
}

func (s *StandIn) echo(ctx context.Context) {
	p := ipv4.NewPacketConn(s.Echo)
	stop := context.AfterFunc(ctx, func() { s.Echo.SetReadDeadline(time.Unix(1, 0)) })
	defer stop()
	b := make([]byte, 1500)
	seen := false
	for ctx.Err() == nil {
		n, from, err := s.Echo.ReadFromUDP(b)
		if err != nil {
			time.Sleep(5 * time.Millisecond)
			continue
		}
		ttl := s.TTL()
		if ttl == 0 || s.Loss > 0 && rand.IntN(100) < s.Loss {
			continue
		}
		if p.SetTTL(ttl) == nil {
			_, _ = s.Echo.WriteToUDP(b[:n], from)
			if s.Seen != nil && !seen && s.State() == Restarted {
				seen = true
				s.Seen()
			}
		}
	}
}

func (s *StandIn) blockSize() int {
	if b := s.Rule.Transfer.Blocksize; b != nil && *b {
		return 1428
	}
	return 0
}

func (s *StandIn) largest() int64 {
	if most, _ := s.Rule.Takes(); most > 0 {
		return most
	}
	return 256 << 20
}

func (s *StandIn) listen() (net.PacketConn, error) {
	open := s.Open
	if open == nil {
		open = func() (net.PacketConn, error) {
			return net.ListenUDP("udp", &net.UDPAddr{IP: s.Boot.LocalAddr().(*net.UDPAddr).IP})
		}
	}
	conn, err := open()
	if err != nil || s.Loss == 0 {
		return conn, err
	}
	return &losing{PacketConn: conn, percent: s.Loss}, nil
}

// Refuses says why an image is dropped, "" when it is taken: by its size, its
// format, its checksums, and the hardware that its titles name.
func (s *StandIn) Refuses(data []byte) string {
	if most := s.largest(); int64(len(data)) > most {
		return fmt.Sprintf("it has %d bytes, and no more than %d are taken", len(data), most)
	}
	format, m := readImage(s.Formats, data)
	var want []string
	for _, t := range s.Rule.Accepts.Formats {
		want = append(want, t.Text)
	}
	wrapped := s.Rule.Accepts.Wrapped != nil && *s.Rule.Accepts.Wrapped
	switch direct := len(want) == 0 || slices.Contains(want, format); {
	case wrapped && len(want) > 0 && (direct || !holds(m, want)), !wrapped && !direct:
		return fmt.Sprintf("it is of the format %s", format)
	}
	if m == nil {
		return ""
	}
	if len(m.Damaged()) > 0 {
		return "a checksum is wrong"
	}
	for _, t := range titles(m) {
		if why := s.names(t); why != "" {
			return why
		}
	}
	return ""
}

// names tells whether a title names another model, or another board of this one.
func (s *StandIn) names(title string) string {
	if s.Rules == nil {
		return ""
	}
	m, ok := s.Rules.FindModel(s.Model)
	if !ok {
		return ""
	}
	ours, others := false, false
	board, boards := false, false
	for _, w := range strings.Fields(title) {
		if o, ok := s.Rules.FindModel(w); ok {
			ours, others = ours || o.Key == m.Key, others || o.Key != m.Key
		}
		if r, ok := m.Value.Revision(w); ok {
			board, boards = board || strings.EqualFold(r.Key, s.Board), true
		}
	}
	switch {
	case others && !ours:
		return fmt.Sprintf("it is for %q", title)
	case ours && boards && !board && s.Board != "":
		return fmt.Sprintf("it is for %q, another board", title)
	}
	return ""
}

// holds tells whether something of one of some formats lies in an image.
func holds(m *image.Image, formats []string) bool {
	if m == nil {
		return false
	}
	for _, p := range m.Parts {
		if slices.Contains(formats, p.Kind) || holds(p.Image, formats) {
			return true
		}
	}
	return false
}

// titles are those of an image and of what is in it.
func titles(m *image.Image) []string {
	var out []string
	for _, f := range m.Facts {
		if f.About == "title" {
			out = append(out, f.Value)
		}
	}
	for _, p := range m.Parts {
		if p.Image != nil {
			out = append(out, titles(p.Image)...)
		}
	}
	return out
}

// deaf hears requests only while the boot loader waits.
type deaf struct {
	net.PacketConn
	s *StandIn
}

func (d *deaf) ReadFrom(b []byte) (int, net.Addr, error) {
	for {
		n, from, err := d.PacketConn.ReadFrom(b)
		if err != nil || d.s.State() == Waiting {
			return n, from, err
		}
	}
}

// losing loses what is sent.
type losing struct {
	net.PacketConn
	percent int
}

func (l *losing) WriteTo(b []byte, to net.Addr) (int, error) {
	if rand.IntN(100) < l.percent {
		return len(b), nil
	}
	return l.PacketConn.WriteTo(b, to)
}

type intake struct{ bytes.Buffer }

func (*intake) Close() error { return nil }
