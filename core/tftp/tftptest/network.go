// Package tftptest is a network of datagrams in memory, for tests of what goes
// over TFTP. Nothing in it waits for the kernel, so that a test in a bubble of
// testing/synctest runs by a clock of its own, however busy the machine is.
package tftptest

import (
	"math/rand/v2"
	"net"
	"os"
	"sync"
	"time"
)

// Network joins connections by their addresses.
type Network struct {
	// Spoil, where it is set, says how often a datagram arrives: 0 is lost, 2
	// comes twice, -1 comes behind the next one. It is asked for each in turn.
	Spoil func(from, to *net.UDPAddr, b []byte) int

	mu    sync.Mutex
	held  map[*Conn]datagram
	conns map[string]*Conn
	next  int
}

// Lossy loses so many of a hundred datagrams, and repeats half as many.
func Lossy(percent int, seed uint64) func(from, to *net.UDPAddr, b []byte) int {
	r := rand.New(rand.NewPCG(seed, 1))
	return func(_, _ *net.UDPAddr, _ []byte) int {
		switch n := r.IntN(100); {
		case n < percent:
			return 0
		case n < percent*3/2:
			return 2
		}
		return 1
	}
}

// Bad loses, repeats and reorders so many of a hundred datagrams each.
func Bad(percent int, seed uint64) func(from, to *net.UDPAddr, b []byte) int {
	r := rand.New(rand.NewPCG(seed, 2))
	return func(_, _ *net.UDPAddr, _ []byte) int {
		switch n := r.IntN(100) / percent; n {
		case 0, 1, 2:
			return []int{0, 2, -1}[n]
		}
		return 1
	}
}

// Host is an address at which connections may be opened.
func Host(last byte) net.IP { return net.IPv4(192, 0, 2, last) }

// Listen opens a connection; port 0 takes any.
func (n *Network) Listen(ip net.IP, port int) *Conn {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.conns == nil {
		n.conns, n.next = map[string]*Conn{}, 40000
	}
	if port == 0 {
		n.next++
		port = n.next
	}
	c := &Conn{network: n, at: &net.UDPAddr{IP: ip, Port: port}, in: make(chan datagram, 1024), closed: make(chan struct{}), changed: make(chan struct{})}
	n.conns[c.at.String()] = c
	return c
}

// Opener is Listen on any port of a host, in the form that transfers take.
func (n *Network) Opener(ip net.IP) func() (net.PacketConn, error) {
	return func() (net.PacketConn, error) { return n.Listen(ip, 0), nil }
}

type datagram struct {
	from *net.UDPAddr
	b    []byte
}

// Conn is one end; it is a net.PacketConn.
type Conn struct {
	network *Network
	at      *net.UDPAddr
	in      chan datagram
	once    sync.Once
	closed  chan struct{}

	mu       sync.Mutex
	deadline time.Time
	changed  chan struct{}
}

// ReadFrom implements net.PacketConn.
func (c *Conn) ReadFrom(b []byte) (int, net.Addr, error) {
	for {
		c.mu.Lock()
		until, changed := c.deadline, c.changed
		c.mu.Unlock()
		var late <-chan time.Time
		if !until.IsZero() {
			left := time.Until(until)
			if left <= 0 {
				return 0, nil, &net.OpError{Op: "read", Net: "udp", Err: os.ErrDeadlineExceeded}
			}
			t := time.NewTimer(left)
			defer t.Stop()
			late = t.C
		}
		select {
		case d := <-c.in:
			return copy(b, d.b), d.from, nil
		case <-late:
		case <-changed:
		case <-c.closed:
			return 0, nil, net.ErrClosed
		}
	}
}

// WriteTo implements net.PacketConn. What nobody listens for is lost.
func (c *Conn) WriteTo(b []byte, to net.Addr) (int, error) {
	select {
	case <-c.closed:
		return 0, net.ErrClosed
	default:
	}
	n, addr := c.network, to.(*net.UDPAddr)
	n.mu.Lock()
	defer n.mu.Unlock()
	times := 1
	if n.Spoil != nil {
		times = n.Spoil(c.at, addr, b)
	}
	peer := n.conns[addr.String()]
	if peer == nil {
		return len(b), nil
	}
	d := datagram{c.at, append([]byte(nil), b...)}
	before, held := n.held[peer]
	if delete(n.held, peer); times < 0 {
		if n.held == nil {
			n.held = map[*Conn]datagram{}
		}
		n.held[peer] = d
	}
	for range times {
		peer.deliver(d)
	}
	if held {
		peer.deliver(before)
	}
	return len(b), nil
}

func (c *Conn) deliver(d datagram) {
	select {
	case c.in <- d:
	default: // its queue is full
	}
}

// Close implements net.PacketConn.
func (c *Conn) Close() error {
	c.once.Do(func() {
		c.network.mu.Lock()
		defer c.network.mu.Unlock()
		delete(c.network.conns, c.at.String())
		close(c.closed)
	})
	return nil
}

// Network is the one that it belongs to.
func (c *Conn) Network() *Network { return c.network }

// LocalAddr implements net.PacketConn.
func (c *Conn) LocalAddr() net.Addr { return c.at }

// SetDeadline implements net.PacketConn.
func (c *Conn) SetDeadline(t time.Time) error { return c.SetReadDeadline(t) }

// SetReadDeadline implements net.PacketConn.
func (c *Conn) SetReadDeadline(t time.Time) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.deadline = t
	close(c.changed)
	c.changed = make(chan struct{})
	return nil
}

// SetWriteDeadline implements net.PacketConn; writing never waits.
func (c *Conn) SetWriteDeadline(time.Time) error { return nil }
