package tftp

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"strconv"
	"sync"
	"time"
)

// Server answers requests. Each transfer has a socket of its own.
type Server struct {
	// Conn is where requests arrive.
	Conn net.PacketConn
	// Options hold for every transfer; the block size is the largest agreed to, 0
	// agrees to no options at all.
	Options Options
	// Send opens a file that is asked for; nil refuses all. size is -1 when it is
	// not known. An error of type *Error is told as it is.
	Send func(from *net.UDPAddr, name string) (r io.ReadCloser, size int64, err error)
	// Receive opens a place for a file that is sent; size is -1 when it is not
	// told. Close is called in the end; Done then tells how it went.
	Receive func(from *net.UDPAddr, name string, size int64) (io.WriteCloser, error)
	// Done is told of every transfer that was begun.
	Done func(from *net.UDPAddr, name string, bytes int64, err error)
	// Refuse is told of a request that is none to be served: to write where nothing is taken,
	// in a mode that is not served, or one that cannot be read.
	Refuse func(from *net.UDPAddr, name string, err error)
	// Progress and Ended are told of what Send opened: how far it is, and how it ended.
	Progress func(r io.ReadCloser, done int64)
	Ended    func(r io.ReadCloser, done int64, err error)
	// Most is how many transfers go on at one time; 0 is 64. A request beyond them is not
	// answered, and comes again.
	Most int
	// Listen opens the socket of a transfer; nil takes that of Options, else any
	// port of Conn's address.
	Listen func() (net.PacketConn, error)
}

// Serve answers until the context ends, and waits for transfers under way.
func (s *Server) Serve(ctx context.Context) error {
	var wg sync.WaitGroup
	defer wg.Wait()
	if err := s.Conn.SetReadDeadline(time.Time{}); err != nil {
		return err
	}
	stop := context.AfterFunc(ctx, func() { s.Conn.SetReadDeadline(time.Unix(1, 0)) })
	defer stop()
	b := make([]byte, 4096)
	begun := &pending{at: map[string]bool{}}
	read := newArrivals(s.Conn)
	for {
		n, from, at, err := read(b)
		if ctx.Err() != nil {
			return nil
		}
		if err != nil {
			if errors.Is(err, net.ErrClosed) {
				return err
			}
			time.Sleep(5 * time.Millisecond) // a refusal by ICMP, for instance
			continue
		}
		addr, ok := from.(*net.UDPAddr)
		if !ok {
			continue
		}
		p, err := parse(b[:n])
		if err != nil {
			s.unreadable(addr, b[:n], err)
			continue
		}
		if p.op != opRead && p.op != opWrite {
			continue
		}
		// A request that comes again because the answer was lost is not another one.
		if !begun.add(addr.String(), cmp.Or(s.Most, maxTransfers)) {
			continue
		}
		wg.Go(func() {
			defer begun.remove(addr.String())
			s.answer(ctx, addr, at, p)
		})
	}
}

// unreadable answers a request that cannot be read, so that who sent it need not wait.
func (s *Server) unreadable(from *net.UDPAddr, b []byte, why error) {
	if len(b) < 2 || b[0] != 0 || opcode(b[1]) != opRead && opcode(b[1]) != opWrite {
		return
	}
	_, _ = s.Conn.WriteTo(errorPacket(CodeIllegal, "the request cannot be read: "+why.Error()), from)
	s.refused(from, "", why)
}

func (s *Server) refused(from *net.UDPAddr, name string, err error) {
	if s.Refuse != nil {
		s.Refuse(from, name, err)
	}
}

type pending struct {
	mu sync.Mutex
	at map[string]bool
}

// maxTransfers bounds the transfers at one time, unless a server says otherwise.
const maxTransfers = 64

func (p *pending) add(key string, most int) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.at[key] || len(p.at) >= most {
		return false
	}
	p.at[key] = true
	return true
}

func (p *pending) remove(key string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	delete(p.at, key)
}

func (s *Server) answer(ctx context.Context, from *net.UDPAddr, at net.IP, p *packet) {
	listen := s.Listen
	if listen == nil {
		listen = s.Options.Listen
	}
	if listen == nil {
		listen = func() (net.PacketConn, error) {
			if local, ok := s.Conn.LocalAddr().(*net.UDPAddr); ok {
				if at != nil && !at.IsMulticast() && !at.Equal(net.IPv4bcast) {
					if conn, err := net.ListenUDP("udp", &net.UDPAddr{IP: at, Zone: from.Zone}); err == nil {
						return conn, nil
					}
				}
				return net.ListenUDP("udp", &net.UDPAddr{IP: local.IP, Zone: local.Zone})
			}
			return net.ListenPacket("udp", ":0")
		}
	}
	conn, err := listen()
	if err != nil {
		return
	}
	defer conn.Close()
	o := s.Options
	if p.op == opRead { // only acknowledgements come in
		o.BlockSize = 0
	}
	t := newSession(ctx, conn, from, o)
	t.fixed = true
	var n int64
	switch {
	case p.mode != "octet" && (p.mode != "netascii" || p.op != opRead):
		err = t.fail(CodeIllegal, fmt.Sprintf("the mode %q is not served; ask in octet mode (binary)", p.mode))
		s.refused(from, p.name, err)
	case p.op == opRead:
		n, err = s.send(t, from, p)
	default:
		n, err = s.receive(t, from, p)
	}
	if s.Done != nil {
		s.Done(from, p.name, n, err)
	}
	t.linger()
}

// refuse tells the other side why a file is not served or taken.
func (t *session) refuse(err error) error {
	var told *Error
	if errors.As(err, &told) {
		_ = t.send(errorPacket(told.Code, told.Message))
		return err
	}
	_ = t.send(errorPacket(CodeAccess, "refused"))
	return err
}

// agreed is what the server accepts of the options of a request.
func (s *Server) agreed(t *session, p *packet, size int64) []option {
	if s.Options.BlockSize == 0 {
		return nil
	}
	var out []option
	asked := 0
	for _, o := range p.options {
		switch o.name {
		case "blksize":
			if n, ok := number(o.value, MinBlock, 1<<31); ok {
				t.block = int(min(n, int64(s.Options.BlockSize), MaxBlock))
				out = append(out, option{o.name, strconv.Itoa(t.block)})
			}
		case "windowsize":
			if n, ok := number(o.value, 1, 65535); ok && s.Options.Window > 1 {
				asked = int(min(n, int64(s.Options.Window)))
			}
		case "tsize":
			n, ok := number(o.value, 0, 1<<62)
			switch {
			case ok && p.op == opWrite:
				t.total = n
				out = append(out, option{o.name, o.value})
			case ok && size >= 0:
				out = append(out, option{o.name, strconv.FormatInt(size, 10)})
			}
		case "timeout":
			if n, ok := number(o.value, 1, 255); ok {
				t.o.Timeout = time.Duration(n) * time.Second
				t.trip = newRoundTrip(t.o.Timeout, leastWait)
				out = append(out, option{o.name, o.value})
			}
		}
	}
	if asked > 0 {
		t.window = max(1, min(asked, maxInFlight/t.block))
		out = append(out, option{"windowsize", strconv.Itoa(t.window)})
	}
	return out
}

func (s *Server) send(t *session, from *net.UDPAddr, p *packet) (int64, error) {
	if s.Send == nil {
		return 0, t.refuse(&Error{CodeAccess, "nothing is served"})
	}
	r, size, err := s.Send(from, p.name)
	if err != nil {
		return 0, t.refuse(err)
	}
	defer r.Close()
	var file io.Reader = r
	if p.mode == "netascii" { // what goes over the line is longer, and how long nobody knows before
		size, file = -1, newNetascii(r)
	}
	if s.Progress != nil {
		t.o.Progress = func(done, _ int64) { s.Progress(r, done) }
	}
	done, err := s.sendAgreed(t, p, file, size)
	if s.Ended != nil {
		s.Ended(r, done, err)
	}
	return done, err
}

// sendAgreed agrees on the options, and sends.
func (s *Server) sendAgreed(t *session, p *packet, file io.Reader, size int64) (int64, error) {
	options := s.agreed(t, p, size)
	t.total = size
	if len(options) > 0 {
		err := t.exchange(oack(options), func(p *packet) (bool, error) { return p.op == opAck && p.block == 0, nil })
		if err != nil {
			return 0, err
		}
	}
	return t.sendFile(file)
}

func (s *Server) receive(t *session, from *net.UDPAddr, p *packet) (int64, error) {
	if s.Receive == nil {
		err := t.refuse(&Error{CodeAccess, "nothing is taken"})
		s.refused(from, p.name, errors.New("it asks to write, and nothing is taken"))
		return 0, err
	}
	size := int64(-1)
	if text, ok := p.option("tsize"); ok {
		if n, ok := number(text, 0, 1<<62); ok {
			size = n
		}
	}
	w, err := s.Receive(from, p.name, size)
	if err != nil {
		return 0, t.refuse(err)
	}
	answer := ack(0)
	if options := s.agreed(t, p, size); len(options) > 0 {
		answer = oack(options)
	}
	n, err := t.receiveFile(w, answer, nil)
	if cerr := w.Close(); err == nil {
		err = cerr
	}
	return n, err
}
