// Package rescue brings a device back that waits in its boot loader: it watches
// what answers, sends or serves the one image that was checked, and waits until
// the system answers again.
package rescue

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"os"
	"time"

	"golang.org/x/net/icmp"
	"golang.org/x/net/ipv4"
)

// Prober asks whether something answers, and with which time to live: what a
// boot loader sets differs from what a running system does.
type Prober interface {
	// Probe waits for one answer. ttl is 0 when it came without one; ErrSilent
	// when none came.
	Probe(ctx context.Context, wait time.Duration) (ttl int, err error)
	Close() error
}

// ErrSilent: nothing answered.
var ErrSilent = errors.New("no answer")

// NewPing makes a prober by ICMP echo (RFC 792), without special rights. The
// error says that the system does not allow it.
func NewPing(to net.IP) (Prober, error) {
	conn, err := icmp.ListenPacket("udp4", "0.0.0.0")
	if err != nil {
		return nil, fmt.Errorf("this system does not let programs ping without special rights (%w); on Linux, sysctl net.ipv4.ping_group_range allows it", err)
	}
	p := conn.IPv4PacketConn()
	if p == nil || p.SetControlMessage(ipv4.FlagTTL, true) != nil {
		conn.Close()
		return nil, errors.New("this system does not tell the time to live of replies")
	}
	return &ping{conn, p, to, 0}, nil
}

type ping struct {
	conn *icmp.PacketConn
	p    *ipv4.PacketConn
	to   net.IP
	seq  int
}

func (p *ping) Close() error { return p.conn.Close() }

func (p *ping) Probe(ctx context.Context, wait time.Duration) (int, error) {
	p.seq++
	m := icmp.Message{Type: ipv4.ICMPTypeEcho, Body: &icmp.Echo{ID: os.Getpid() & 0xffff, Seq: p.seq & 0xffff, Data: []byte("fitcheck")}}
	b, err := m.Marshal(nil)
	if err != nil {
		return 0, err
	}
	if _, err := p.conn.WriteTo(b, &net.UDPAddr{IP: p.to}); err != nil {
		return 0, pause(ctx, wait) // no way there just now
	}
	return answer(ctx, p.p, p.to, wait, func(b []byte) bool {
		got, err := icmp.ParseMessage(1, b)
		if err != nil || got.Type != ipv4.ICMPTypeEchoReply {
			return false
		}
		echo, ok := got.Body.(*icmp.Echo)
		return ok && echo.Seq == p.seq&0xffff
	})
}

// NewEcho makes a prober by UDP echo (RFC 862): for devices that are asked so,
// and for the stand-in.
func NewEcho(to *net.UDPAddr) (Prober, error) {
	conn, err := net.ListenUDP("udp4", nil)
	if err != nil {
		return nil, err
	}
	p := ipv4.NewPacketConn(conn)
	if err := p.SetControlMessage(ipv4.FlagTTL, true); err != nil {
		conn.Close()
		return nil, errors.New("this system does not tell the time to live of replies")
	}
	return &echo{conn: conn, p: p, to: to}, nil
}

type echo struct {
	conn *net.UDPConn
	p    *ipv4.PacketConn
	to   *net.UDPAddr
	seq  uint32
}

func (e *echo) Close() error { return e.conn.Close() }

func (e *echo) Probe(ctx context.Context, wait time.Duration) (int, error) {
	e.seq++
	b := binary.BigEndian.AppendUint32([]byte("fitcheck"), e.seq)
	if _, err := e.conn.WriteToUDP(b, e.to); err != nil {
		return 0, pause(ctx, wait)
	}
	return answer(ctx, e.p, e.to.IP, wait, func(got []byte) bool { return string(got) == string(b) })
}

// pause waits, and is ErrSilent.
func pause(ctx context.Context, wait time.Duration) error {
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(wait):
		return ErrSilent
	}
}

// answer waits for a reply, and gives its time to live.
func answer(ctx context.Context, p *ipv4.PacketConn, from net.IP, wait time.Duration, ours func([]byte) bool) (int, error) {
	until := time.Now().Add(wait)
	b := make([]byte, 1500)
	for {
		if err := ctx.Err(); err != nil {
			return 0, err
		}
		step := time.Now().Add(50 * time.Millisecond)
		if step.After(until) {
			step = until
		}
		if err := p.SetReadDeadline(step); err != nil {
			return 0, err
		}
		n, cm, src, err := p.ReadFrom(b)
		if err != nil {
			var ne net.Error
			if !errors.As(err, &ne) || !ne.Timeout() {
				time.Sleep(10 * time.Millisecond) // a refusal by ICMP, for instance
			}
			if !time.Now().Before(until) {
				return 0, ErrSilent
			}
			continue
		}
		if a, ok := src.(*net.UDPAddr); ok && !a.IP.Equal(from) || !ours(b[:n]) {
			continue
		}
		if cm != nil {
			return cm.TTL, nil
		}
		return 0, nil
	}
}
