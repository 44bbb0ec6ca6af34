package tftp

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"time"
)

// Options steer a transfer.
type Options struct {
	// BlockSize asks for blocks of so many bytes; 0 negotiates nothing, so that
	// a side that knows no options is not troubled with them.
	BlockSize int
	// Timeout is how long an answer is waited for before a packet is sent again,
	// at first; it doubles up to eight times that. 0 is one second.
	Timeout time.Duration
	// Retries is how often a packet is sent again; 0 is five times.
	Retries int
	// Progress, where it is set, is told how many bytes are over; total is -1
	// when it is not known.
	Progress func(done, total int64)
	// Limit bounds what is received, in bytes; 0 is no bound.
	Limit int64
	// Listen opens the socket; nil takes any port.
	Listen func() (net.PacketConn, error)
}

func (o Options) timeout() time.Duration {
	if o.Timeout > 0 {
		return o.Timeout
	}
	return time.Second
}

func (o Options) retries() int {
	if o.Retries > 0 {
		return o.Retries
	}
	return 5
}

func (o Options) listen() (net.PacketConn, error) {
	if o.Listen != nil {
		return o.Listen()
	}
	return net.ListenPacket("udp", ":0")
}

func (o Options) progress(done, total int64) {
	if o.Progress != nil {
		o.Progress(done, total)
	}
}

// session is one transfer: a socket of its own, and the other side's address
// and port, which is fixed by its first packet (its transfer ID).
type session struct {
	ctx  context.Context
	conn net.PacketConn
	peer *net.UDPAddr
	// fixed: the peer's port is known.
	fixed bool
	o     Options
	block int
	total int64
	buf   []byte
	// last acknowledges the last block of a file that was received.
	last      []byte
	lastBlock uint16
}

func newSession(ctx context.Context, conn net.PacketConn, peer *net.UDPAddr, o Options) *session {
	return &session{ctx: ctx, conn: conn, peer: peer, o: o, block: DefaultBlock, total: -1, buf: make([]byte, MaxBlock+4)}
}

func (s *session) send(b []byte) error {
	_, err := s.conn.WriteTo(b, s.peer)
	if err != nil {
		// A full queue or an address that cannot be reached just now is what the
		// next try is for.
		var op *net.OpError
		if errors.As(err, &op) && !errors.Is(err, net.ErrClosed) {
			return nil
		}
	}
	return err
}

// fail tells the other side, and is the error.
func (s *session) fail(code int, message string) error {
	_ = s.send(errorPacket(code, message))
	return errors.New(message)
}

// exchange sends a packet until want takes one that comes back. A nil packet
// only waits.
func (s *session) exchange(b []byte, want func(*packet) (bool, error)) error {
	wait := s.o.timeout()
	longest := 8 * wait
	for try := 0; try <= s.o.retries(); try++ {
		if err := s.ctx.Err(); err != nil {
			_ = s.send(errorPacket(CodeUndefined, "given up"))
			return err
		}
		if b != nil {
			if err := s.send(b); err != nil {
				return err
			}
		}
		until := time.Now().Add(wait)
		for {
			p, err := s.receive(until)
			if err != nil {
				if errors.Is(err, ErrTimeout) {
					break
				}
				return err
			}
			if p.op == opError {
				return &Error{p.code, p.message}
			}
			ok, err := want(p)
			if ok || err != nil {
				return err
			}
		}
		wait = min(2*wait, longest)
	}
	return ErrTimeout
}

// receive reads the next packet of the other side. What cannot be read, or is
// of somebody else, is passed over.
func (s *session) receive(until time.Time) (*packet, error) {
	for {
		if err := s.ctx.Err(); err != nil {
			return nil, err
		}
		// Short stretches, so that a cancelled context is seen.
		step := time.Now().Add(100 * time.Millisecond)
		if step.After(until) {
			step = until
		}
		if err := s.conn.SetReadDeadline(step); err != nil {
			return nil, err
		}
		n, from, err := s.conn.ReadFrom(s.buf)
		if err != nil {
			var ne net.Error
			if !errors.As(err, &ne) || !ne.Timeout() {
				if errors.Is(err, net.ErrClosed) {
					return nil, err
				}
				// For instance a refusal by ICMP: nobody listens there just now.
				time.Sleep(min(20*time.Millisecond, time.Until(until)))
			}
			if !time.Now().Before(until) {
				return nil, ErrTimeout
			}
			continue
		}
		addr, ok := from.(*net.UDPAddr)
		if !ok || !addr.IP.Equal(s.peer.IP) {
			continue
		}
		if s.fixed && addr.Port != s.peer.Port {
			_, _ = s.conn.WriteTo(errorPacket(CodeUnknownID, "unknown transfer ID"), addr)
			continue
		}
		p, err := parse(s.buf[:n])
		if err != nil {
			continue
		}
		if !s.fixed {
			s.peer = &net.UDPAddr{IP: s.peer.IP, Port: addr.Port, Zone: s.peer.Zone}
			s.fixed = true
		}
		return p, nil
	}
}

// agree takes the options that the other side accepted: only those asked for,
// and no larger block.
func (s *session) agree(p *packet, asked []option) error {
	for _, o := range p.options {
		found := false
		for _, a := range asked {
			found = found || a.name == o.name
		}
		if !found {
			return s.fail(CodeOption, fmt.Sprintf("option %s was not asked for", o.name))
		}
		switch o.name {
		case "blksize":
			n, ok := number(o.value, MinBlock, int64(max(s.o.BlockSize, MinBlock)))
			if !ok {
				return s.fail(CodeOption, fmt.Sprintf("a block size of %s was not asked for", o.value))
			}
			s.block = int(n)
		case "tsize":
			if n, ok := number(o.value, 0, 1<<62); ok {
				s.total = n
			}
		}
	}
	return nil
}

// sendFile sends blocks from a block number on until all are acknowledged.
func (s *session) sendFile(r io.Reader) (int64, error) {
	done := int64(0)
	b := make([]byte, 4+s.block)
	for block := uint16(1); ; block++ {
		binary.BigEndian.PutUint16(b, uint16(opData))
		binary.BigEndian.PutUint16(b[2:], block)
		n, err := io.ReadFull(r, b[4:4+s.block])
		if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
			_ = s.send(errorPacket(CodeUndefined, "the file cannot be read"))
			return done, err
		}
		err = s.exchange(b[:4+n], func(p *packet) (bool, error) {
			// An acknowledgement of an earlier block is a late one: answering it would
			// send every block twice from then on.
			return p.op == opAck && p.block == block, nil
		})
		if err != nil {
			return done, fmt.Errorf("after %d bytes: %w", done, err)
		}
		done += int64(n)
		s.o.progress(done, s.total)
		if n < s.block {
			return done, nil
		}
	}
}

// receiveFile receives blocks; answer is what is sent until the first one
// comes, and first the block that came already with the answer to a request.
func (s *session) receiveFile(w io.Writer, answer []byte, first *packet) (int64, error) {
	done := int64(0)
	for block := uint16(1); ; block++ {
		var data []byte
		last := false
		take := func(p *packet) (bool, error) {
			switch {
			case p.op != opData:
				return false, nil
			case p.block == block:
				if len(p.data) > s.block {
					return false, s.fail(CodeIllegal, fmt.Sprintf("a block of %d bytes, and %d were agreed on", len(p.data), s.block))
				}
				data = append([]byte(nil), p.data...)
				last = len(p.data) < s.block
				return true, nil
			case p.block == block-1 && answer != nil: // our acknowledgement was lost
				return false, s.send(answer)
			}
			return false, nil
		}
		ok := false
		var err error
		if first != nil {
			ok, err = take(first)
			first = nil
		}
		if !ok && err == nil {
			err = s.exchange(answer, take)
		}
		if err != nil {
			return done, fmt.Errorf("after %d bytes: %w", done, err)
		}
		if s.o.Limit > 0 && done+int64(len(data)) > s.o.Limit {
			return done, s.fail(CodeFull, fmt.Sprintf("the file has more than %d bytes", s.o.Limit))
		}
		if _, err := w.Write(data); err != nil {
			_ = s.send(errorPacket(CodeFull, "the file cannot be written"))
			return done, err
		}
		done += int64(len(data))
		s.o.progress(done, s.total)
		answer = ack(block)
		if last {
			s.last, s.lastBlock = answer, block
			return done, s.send(answer)
		}
	}
}

// linger acknowledges the last block again when it comes again, because the
// acknowledgement was lost.
func (s *session) linger() {
	if s.last == nil {
		return
	}
	for until := time.Now().Add(2 * s.o.timeout()); ; {
		p, err := s.receive(until)
		if err != nil {
			return
		}
		if p.op == opData && p.block == s.lastBlock {
			_ = s.send(s.last)
		}
	}
}
