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

	"fitcheck/core/image"
	"fitcheck/core/rulebook"
	"fitcheck/core/tftp"
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
	Model   string
	Board   string // hardware revision, "" for any
	Formats *image.Set
	// Echo and Boot are where it answers echo requests and takes images.
	Echo, Boot *net.UDPConn
	// How long it stays in its states.
	OldFor, DeadFor, WaitFor, WriteFor time.Duration
	// Loss is how many of a hundred packets are lost.
	Loss int
	// Tell is told of every state, and of what was dropped and why.
	Tell func(State, string)

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
	wg.Go(func() { s.echo(ctx) })
	var boot net.PacketConn = s.Boot
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
			s.enter(Waiting, fmt.Sprintf("the transfer broke off: %v", err))
			return
		}
		s.mu.Lock()
		data := s.intake.Bytes()
		s.mu.Unlock()
		if why := s.refuses(data); why != "" {
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
		s.enter(Waiting, fmt.Sprintf("for %s", s.WaitFor))
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

// ttl of the replies in a state; 0 for none.
func (s *StandIn) ttl() int {
	switch s.State() {
	case Old, Restarted:
		if s.Rule.NotYet.PingTTL > 0 {
			return s.Rule.NotYet.PingTTL
		}
		return 64
	case Waiting, Receiving:
		if s.Rule.Signs.PingTTL > 0 {
			return s.Rule.Signs.PingTTL
		}
		return 255
	}
	return 0
}

func (s *StandIn) echo(ctx context.Context) {
	p := ipv4.NewPacketConn(s.Echo)
	stop := context.AfterFunc(ctx, func() { s.Echo.SetReadDeadline(time.Unix(1, 0)) })
	defer stop()
	b := make([]byte, 1500)
	for ctx.Err() == nil {
		n, from, err := s.Echo.ReadFromUDP(b)
		if err != nil {
			time.Sleep(5 * time.Millisecond)
			continue
		}
		ttl := s.ttl()
		if ttl == 0 || s.Loss > 0 && rand.IntN(100) < s.Loss {
			continue
		}
		if p.SetTTL(ttl) == nil {
			_, _ = s.Echo.WriteToUDP(b[:n], from)
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
	if l := s.Rule.Accepts.Largest; l.Set() {
		return l.Bytes
	}
	return 256 << 20
}

func (s *StandIn) listen() (net.PacketConn, error) {
	local := s.Boot.LocalAddr().(*net.UDPAddr)
	conn, err := net.ListenUDP("udp", &net.UDPAddr{IP: local.IP})
	if err != nil || s.Loss == 0 {
		return conn, err
	}
	return &losing{PacketConn: conn, percent: s.Loss}, nil
}

// refuses says why an image is dropped, "" when it is taken: by its format, its
// checksums, and the hardware that its titles name.
func (s *StandIn) refuses(data []byte) string {
	format, m := readImage(s.Formats, data)
	want := s.Rule.Accepts.Formats
	if len(want) > 0 {
		ok := false
		for _, t := range want {
			ok = ok || t.Text == format
		}
		if !ok {
			return fmt.Sprintf("it is of the format %s", format)
		}
	}
	if m == nil {
		return ""
	}
	if len(m.Damaged()) > 0 {
		return "a checksum is wrong"
	}
	for _, t := range titles(m) {
		words := strings.Fields(strings.ToLower(t))
		if !slices.Contains(words, strings.ToLower(s.Model)) {
			return fmt.Sprintf("it is for %q", t)
		}
		if s.Board != "" && !slices.Contains(words, strings.ToLower(s.Board)) {
			return fmt.Sprintf("it is for %q, another board", t)
		}
	}
	return ""
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
