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
	// Window asks for so many blocks to be sent before one is acknowledged (RFC 7440); 0
	// and 1 ask for none.
	Window int
	// Timeout is how long an answer is waited for at first, until the round trip is
	// measured; a wait is never longer than eight times that. 0 is one second.
	Timeout time.Duration
	// Retries is how often a packet would be sent again by that wait, doubled each time; 0
	// is five times. The other side is given up when nothing came for as long as that takes.
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

// patience is how long nothing may come before the other side is given up.
func (o Options) patience() time.Duration {
	wait, all := o.timeout(), time.Duration(0)
	for range o.retries() + 1 {
		all += wait
		wait = min(2*wait, 8*o.timeout())
	}
	return all
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

// maxInFlight bounds the bytes of one transfer that are not acknowledged yet.
const maxInFlight = 128 << 10

// session is one transfer: a socket of its own, and the other side's address
// and port, which is fixed by its first packet (its transfer ID).
type session struct {
	ctx  context.Context
	conn net.PacketConn
	peer *net.UDPAddr
	// fixed: the peer's port is known.
	fixed  bool
	o      Options
	block  int
	window int // blocks behind which one acknowledgement comes
	total  int64
	buf    []byte
	trip   roundTrip
	// last acknowledges the last block of a file that was received.
	last      []byte
	lastBlock uint16
}

// newSession begins a transfer. The buffer for what comes in is as large as a block may get,
// so that one that is larger than agreed is seen.
func newSession(ctx context.Context, conn net.PacketConn, peer *net.UDPAddr, o Options) *session {
	return &session{ctx: ctx, conn: conn, peer: peer, o: o, block: DefaultBlock, window: 1, total: -1,
		buf: make([]byte, max(min(o.BlockSize, MaxBlock), DefaultBlock)+1024), trip: newRoundTrip(o.timeout(), leastWait)}
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
	for first, giveUp := true, time.Now().Add(s.o.patience()); ; first = false {
		if err := s.goesOn(); err != nil {
			return err
		}
		if b != nil {
			if err := s.send(b); err != nil {
				return err
			}
		}
		sent := time.Now()
		ok, err := s.await(sent.Add(s.trip.wait), want)
		switch {
		case err != nil:
			return err
		case ok:
			if first && b != nil {
				s.trip.measure(time.Since(sent))
			}
			return nil
		}
		s.trip.lost()
		if !time.Now().Before(giveUp) {
			return ErrTimeout
		}
	}
}

// goesOn tells the other side when the transfer is given up.
func (s *session) goesOn() error {
	err := s.ctx.Err()
	if err != nil {
		_ = s.send(errorPacket(CodeUndefined, "given up"))
	}
	return err
}

// await reads packets until want takes one, or the time is over.
func (s *session) await(until time.Time, want func(*packet) (bool, error)) (bool, error) {
	for {
		p, err := s.receive(until)
		switch {
		case errors.Is(err, ErrTimeout):
			return false, nil
		case err != nil:
			return false, err
		case p.op == opError:
			return false, &Error{p.code, p.message}
		}
		if ok, err := want(p); ok || err != nil {
			return ok, err
		}
	}
}

// receive reads the next packet of the other side. What cannot be read, or is
// of somebody else, is passed over.
func (s *session) receive(until time.Time) (*packet, error) {
	for {
		if err := s.goesOn(); err != nil {
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
		case "windowsize":
			n, ok := number(o.value, 1, int64(max(s.o.Window, 1)))
			if !ok {
				return s.fail(CodeOption, fmt.Sprintf("a window of %s was not asked for", o.value))
			}
			s.window = int(n)
		case "tsize":
			if n, ok := number(o.value, 0, 1<<62); ok {
				s.total = n
			}
		}
	}
	return nil
}

// sending is the blocks that are sent and not acknowledged.
type sending struct {
	s      *session
	r      io.Reader
	first  uint16   // number of the first of them
	blocks [][]byte // packets, block after block
	sent   int      // how many of them were sent
	fresh  int      // from this one on they were sent once only
	at     time.Time
	free   [][]byte
	done   int64
	end    bool // the last block has been read
	err    error
}

// fill reads blocks until the window is full.
func (w *sending) fill() {
	for len(w.blocks) < w.s.window && !w.end && w.err == nil {
		var b []byte
		if n := len(w.free); n > 0 {
			b, w.free = w.free[n-1], w.free[:n-1]
		} else {
			b = make([]byte, 4+w.s.block)
		}
		b = b[:4+w.s.block]
		n, err := io.ReadFull(w.r, b[4:])
		if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
			w.err = err
			return
		}
		binary.BigEndian.PutUint16(b, uint16(opData))
		binary.BigEndian.PutUint16(b[2:], w.first+uint16(len(w.blocks)))
		w.blocks = append(w.blocks, b[:4+n])
		w.end = n < w.s.block
	}
}

// acknowledged takes an acknowledgement: how many blocks it is for. One of an earlier block
// is a late one, for nothing: answering it would send every block twice from then on.
func (w *sending) acknowledged(number uint16) int {
	n := int(number - w.first + 1) // by the circle of 65536
	if n < 1 || n > w.sent {
		return 0
	}
	switch took := time.Since(w.at); {
	case w.fresh < n: // what was sent again is not measured
		w.s.trip.measure(took)
	case !w.s.trip.measured: // on a very bad line nothing else is to be had: it is this long at least
		w.s.trip.measure(max(took, leastAsk))
	}
	for _, b := range w.blocks[:n] {
		w.done += int64(len(b) - 4)
		w.free = append(w.free, b)
	}
	w.blocks = append(w.blocks[:0], w.blocks[n:]...)
	w.first += uint16(n)
	w.sent, w.fresh = w.sent-n, max(w.fresh-n, 0)
	return n
}

// again sends what is not acknowledged once more.
func (w *sending) again() {
	w.fresh = max(w.fresh, w.sent)
	w.sent = 0
}

// sendFile sends blocks until all are acknowledged: as many as the window holds, and the
// next when these are. One that the other side lacks is sent again with all behind it (RFC
// 7440, section 4).
func (s *session) sendFile(r io.Reader) (int64, error) {
	w := &sending{s: s, r: r, first: 1}
	giveUp := time.Now().Add(s.o.patience())
	broken := func(err error) (int64, error) { return w.done, fmt.Errorf("after %d bytes: %w", w.done, err) }
	for {
		w.fill()
		if w.err != nil {
			_ = s.send(errorPacket(CodeUndefined, "the file cannot be read any further"))
			return w.done, w.err
		}
		if len(w.blocks) == 0 {
			return w.done, nil
		}
		if err := s.goesOn(); err != nil {
			return broken(err)
		}
		for ; w.sent < len(w.blocks); w.sent++ {
			if err := s.send(w.blocks[w.sent]); err != nil {
				return broken(err)
			}
		}
		w.at = time.Now()
		taken := 0
		ok, err := s.await(w.at.Add(s.trip.wait), func(p *packet) (bool, error) {
			if p.op != opAck {
				return false, nil
			}
			again := p.block == w.first-1
			taken = w.acknowledged(p.block)
			// With a window, the last acknowledgement once more says that the block behind it is
			// missing; one that comes at once is a late copy.
			return taken > 0 || again && s.window > 1 && time.Since(w.at) > max(leastWait, s.trip.smoothed), nil
		})
		switch {
		case err != nil:
			return broken(err)
		case ok:
			if taken > 0 {
				giveUp = time.Now().Add(s.o.patience())
				s.o.progress(w.done, s.total)
			}
			if w.sent > 0 { // what was sent behind it did not arrive
				w.again()
			}
			if w.end && len(w.blocks) == 0 {
				return w.done, nil
			}
			continue
		}
		if !time.Now().Before(giveUp) {
			return broken(ErrTimeout)
		}
		s.trip.lost()
		w.again()
	}
}

// leastAsk is the shortest wait before a receiver asks again: the sender sees to losses
// first, and not every one passes over what it has seen already.
const leastAsk = 200 * time.Millisecond

// receiving is a file that comes in blocks.
type receiving struct {
	s      *session
	w      io.Writer
	next   uint16 // number of the block that comes next
	behind int    // blocks since the last acknowledgement
	told   bool   // the sender was told that it left one out
	answer []byte // what is sent when nothing comes
	sent   time.Time
	asked  bool // the answer was sent again
	done   int64
	last   bool
}

// take is given one packet; it tells whether something is to be waited for anew.
func (r *receiving) take(p *packet) (bool, error) {
	s := r.s
	if p.op != opData || p.block != r.next {
		return false, r.astray(p)
	}
	if len(p.data) > s.block {
		return false, s.fail(CodeIllegal, fmt.Sprintf("a block of %d bytes, and %d were agreed on", len(p.data), s.block))
	}
	if s.o.Limit > 0 && r.done+int64(len(p.data)) > s.o.Limit {
		return false, s.fail(CodeFull, fmt.Sprintf("the file has more than %d bytes", s.o.Limit))
	}
	if _, err := r.w.Write(p.data); err != nil {
		_ = s.send(errorPacket(CodeFull, "the file cannot be written"))
		return false, err
	}
	if !r.asked && r.behind == 0 && !r.sent.IsZero() {
		s.trip.measure(time.Since(r.sent))
	}
	r.done += int64(len(p.data))
	r.last = len(p.data) < s.block
	r.told = false
	s.o.progress(r.done, s.total)
	r.answer = ack(r.next)
	r.next++
	if r.behind++; r.behind < s.window && !r.last {
		return true, nil
	}
	r.behind, r.asked, r.sent = 0, false, time.Now()
	return true, s.send(r.answer)
}

// astray answers what is not the block that comes next.
func (r *receiving) astray(p *packet) error {
	s := r.s
	switch {
	case p.op != opData || r.answer == nil:
		return nil
	case p.block == r.next-1 && r.behind == 0: // our acknowledgement was lost
		return s.send(r.answer)
	case int16(p.block-r.next) > 0 && s.window > 1 && !r.told: // one is missing: all behind it comes again
		r.told, r.behind, r.asked = true, 0, true
		if r.done > 0 || r.next != 1 {
			r.answer = ack(r.next - 1)
		}
		return s.send(r.answer)
	}
	return nil
}

// receiveFile receives blocks; answer is what is sent until the first one
// comes, and first the block that came already with the answer to a request.
func (s *session) receiveFile(w io.Writer, answer []byte, first *packet) (int64, error) {
	r := &receiving{s: s, w: w, next: 1, answer: answer}
	s.trip.least = min(leastAsk, s.o.timeout())
	s.trip.wait = max(s.trip.wait, s.trip.least)
	fail := func(err error) (int64, error) { return r.done, fmt.Errorf("after %d bytes: %w", r.done, err) }
	if first != nil {
		if _, err := r.take(first); err != nil {
			return fail(err)
		}
	} else if answer != nil {
		if err := s.send(answer); err != nil {
			return fail(err)
		}
		r.sent = time.Now()
	}
	giveUp := time.Now().Add(s.o.patience())
	for !r.last {
		if err := s.goesOn(); err != nil {
			return fail(err)
		}
		ok, err := s.await(time.Now().Add(s.trip.wait), r.take)
		switch {
		case err != nil:
			return fail(err)
		case ok:
			giveUp = time.Now().Add(s.o.patience())
			continue
		}
		if !time.Now().Before(giveUp) {
			return fail(ErrTimeout)
		}
		s.trip.lost()
		if r.answer != nil {
			r.behind, r.asked = 0, true
			if err := s.send(r.answer); err != nil {
				return fail(err)
			}
		}
	}
	s.last, s.lastBlock = r.answer, r.next-1
	return r.done, nil
}

// linger acknowledges the last block again when it comes again, because the
// acknowledgement was lost.
func (s *session) linger() {
	if s.last == nil {
		return
	}
	for until := time.Now().Add(8 * s.o.timeout()); ; {
		p, err := s.receive(until)
		if err != nil {
			return
		}
		if p.op == opData && p.block == s.lastBlock {
			_ = s.send(s.last)
			until = time.Now().Add(8 * s.o.timeout()) // it did not know yet
		}
	}
}
