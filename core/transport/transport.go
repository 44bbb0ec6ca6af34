// Package transport is how bytes get to a device: offered by a server, from which the device
// fetches them, or pushed to a device that waits for them.
//
// A protocol is a value: one file declares it, with how it listens, fetches and pushes.
// What is offered a Shelf decides, and who asks for what, how far it came and whether it was
// whole is told as events.
package transport

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"strconv"
	"time"
)

// File is a file that is offered, opened for one transfer.
type File interface {
	io.ReaderAt
	io.Closer
	Size() int64
	// Sound tells whether the file is still what was offered; it is asked before the last
	// bytes go out, so that a file that has changed never comes over whole.
	Sound() error
}

// Shelf is what is offered.
type Shelf interface {
	// Open finds a file by the name that is asked for. The error is a *Refusal.
	Open(name string) (File, string, error)
}

// Refusal says why a file is not given out.
type Refusal struct {
	Reason Reason
	Text   string
}

func (r *Refusal) Error() string { return r.Text }

// Reason is what kind of refusal it is.
type Reason int

// The reasons.
const (
	NotThere  Reason = iota // nothing of that name is offered
	Withdrawn               // it was offered, and has changed
	Illegal                 // no name that could be offered, or no reading
)

// Kind is what happened to a transfer.
type Kind string

// The kinds.
const (
	Asked   Kind = "asked"      // it begins
	Going   Kind = "going"      // so far
	Whole   Kind = "whole"      // all of the file, or of the part that was asked for, is over
	Broken  Kind = "broken off" // it ended before
	Refused Kind = "refused"    // nothing was given
)

// Event is something that happened to one transfer.
type Event struct {
	Kind     Kind
	ID       uint64 // of the transfer
	Protocol string
	Peer     string // address of who asks, without the port
	Asked    string // the name as it was asked for
	Name     string // of the file; "" where there is none
	Size     int64  // of the file
	From     int64  // where the part begins that was asked for
	Length   int64  // of that part
	Done     int64  // bytes that are over
	Took     time.Duration
	Why      string // of what was refused or broken off
}

// Part tells whether only a part of the file was asked for.
func (e *Event) Part() bool { return e.From > 0 || e.Length < e.Size }

// Offer is a server that listens.
type Offer interface {
	// Serve answers until the context ends, and then ends transfers under way.
	Serve(ctx context.Context, shelf Shelf, tell func(Event)) error
	Address() net.Addr
	// Told is what a client must know beside the address: user, password and the like.
	Told() map[string]string
	Close() error
}

// Progress is told how many bytes are over; total is -1 when it is not known.
type Progress func(done, total int64)

// Protocol is one way to get bytes across.
type Protocol struct {
	Name    string
	Port    int    // the usual one
	Network string // udp or tcp
	// Always: it is offered where nobody says which protocols are. Logins: a client logs in, by what
	// Told says. URL: files are asked for by a URL of its name; else by a bare path.
	Always, Logins, URL bool
	// Listen opens a server.
	Listen func(address string) (Offer, error)
	// Fetch gets a file from a server that is told about by Told.
	Fetch func(ctx context.Context, address, name string, told map[string]string, w io.Writer, progress Progress) error
	// Push sends a file to somebody who waits for one; nil where the protocol cannot.
	Push func(ctx context.Context, address, name string, r io.Reader, size int64, progress Progress) error
}

// protocols are all there are; each is declared in a file of its own.
var protocols []*Protocol

func register(p *Protocol) *Protocol {
	protocols = append(protocols, p)
	slices.SortFunc(protocols, func(a, b *Protocol) int { return a.Port - b.Port })
	return p
}

// Protocols lists them, by their usual ports.
func Protocols() []*Protocol { return slices.Clone(protocols) }

// ErrNoRights: a port below 1024 was asked for, and the system gives it to nobody without
// rights.
var ErrNoRights = errors.New("ports below 1024 need rights")

// ErrTaken: somebody listens there already.
var ErrTaken = errors.New("another program listens there")

// WithPort adds the usual port to an address that has none: "192.0.2.1", ":69" and "[::]:69"
// are addresses.
func (p *Protocol) WithPort(address string) (string, error) {
	host, port, err := net.SplitHostPort(address)
	if err != nil {
		if net.ParseIP(address) == nil && address != "" {
			return "", fmt.Errorf("%q is no address; write ADDRESS:PORT, for example 192.0.2.1:%d, or :%d for all addresses of this computer", address, p.Port, p.Port)
		}
		host, port = address, strconv.Itoa(p.Port)
	}
	if n, err := strconv.Atoi(port); err != nil || n < 0 || n > 65535 {
		return "", fmt.Errorf("%q is no port; ports are numbers up to 65535", port)
	}
	return net.JoinHostPort(host, port), nil
}

// tellProgress bounds how often a transfer tells how far it is.
const tellProgress = 200 * time.Millisecond

// transfer is one transfer that tells what happens to it.
type transfer struct {
	Event
	begun, told time.Time
	tell        func(Event)
}

func begin(tell func(Event), e Event) *transfer {
	t := &transfer{Event: e, begun: time.Now(), tell: tell}
	t.say(Asked)
	return t
}

func (t *transfer) say(k Kind) {
	e := t.Event
	e.Kind, e.Took = k, time.Since(t.begun)
	t.told = time.Now()
	t.tell(e)
}

// reached tells now and then how far it is.
func (t *transfer) reached(done int64) {
	t.Done = done
	if time.Since(t.told) >= tellProgress {
		t.say(Going)
	}
}

// end tells how it ended.
func (t *transfer) end(err error) {
	if err == nil && t.Done >= t.Length {
		t.say(Whole)
		return
	}
	t.Why = "the other side went away"
	var refusal *Refusal
	switch {
	case errors.As(err, &refusal):
		t.Why = refusal.Text
	case err != nil && plainWhy(err) != "":
		t.Why = plainWhy(err)
	}
	t.say(Broken)
}

// refuse tells of a request for which nothing was given.
func refuse(tell func(Event), e Event, err error) {
	e.Kind, e.Why = Refused, err.Error()
	tell(e)
}

// sequential reads a file from its beginning to its end. The last bytes are given only
// where the file is still sound.
type sequential struct {
	File
	at int64
}

// Read implements io.Reader.
func (s *sequential) Read(b []byte) (int, error) {
	left := s.Size() - s.at
	if left <= 0 {
		return 0, io.EOF
	}
	n, err := s.ReadAt(b[:min(int64(len(b)), left)], s.at)
	s.at += int64(n)
	if err == io.EOF && s.at < s.Size() {
		return 0, &Refusal{Withdrawn, "the file has become shorter under the transfer"}
	}
	if s.at == s.Size() {
		if err := s.Sound(); err != nil {
			return 0, err
		}
		return n, nil
	}
	if err == io.EOF {
		err = nil
	}
	return n, err
}
