package tftp

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"strconv"
	"strings"
	"time"
)

// asked are the options of a request.
func (o Options) asked(size int64) []option {
	if o.BlockSize == 0 {
		return nil
	}
	out := []option{{"blksize", strconv.Itoa(min(max(o.BlockSize, MinBlock), MaxBlock))}, {"tsize", strconv.FormatInt(max(size, 0), 10)}}
	if o.Window > 1 {
		out = append(out, option{"windowsize", strconv.Itoa(min(o.Window, 65535))})
	}
	if t := o.timeout(); t%time.Second == 0 && t <= 255*time.Second {
		out = append(out, option{"timeout", strconv.Itoa(int(t / time.Second))})
	}
	return out
}

// Put sends a file to a server that waits for one. size is that of the file.
// The error is an *Error when the server refuses, ErrTimeout when it does not
// answer.
func Put(ctx context.Context, server *net.UDPAddr, name string, r io.Reader, size int64, o Options) error {
	conn, err := o.listen()
	if err != nil {
		return err
	}
	defer conn.Close()
	s := newSession(ctx, conn, server, o)
	asked := o.asked(size)
	err = s.begin(opWrite, name, asked, func(p *packet) (bool, error) {
		switch {
		case p.op == opAck && p.block == 0:
			return true, nil
		case p.op == opOack:
			return true, s.agree(p, asked)
		}
		return false, nil
	})
	if err != nil {
		return err
	}
	s.total = size
	done, err := s.sendFile(r)
	if err == nil && done != size {
		err = fmt.Errorf("the file had %d bytes, and %d were told", done, size)
	}
	return err
}

// Get fetches a file, and tells how many bytes it has. Errors as with Put.
func Get(ctx context.Context, server *net.UDPAddr, name string, w io.Writer, o Options) (int64, error) {
	conn, err := o.listen()
	if err != nil {
		return 0, err
	}
	s := newSession(ctx, conn, server, o)
	defer func() { // the caller need not wait for what may still come
		go func() {
			s.linger()
			conn.Close()
		}()
	}()
	asked := o.asked(0)
	var first *packet
	var answer []byte
	err = s.begin(opRead, name, asked, func(p *packet) (bool, error) {
		switch {
		case p.op == opData && p.block == 1: // the server knows no options
			copied := *p
			copied.data = append([]byte(nil), p.data...)
			first = &copied
			return true, nil
		case p.op == opOack:
			answer = ack(0)
			return true, s.agree(p, asked)
		}
		return false, nil
	})
	if err != nil {
		return 0, err
	}
	if o.Limit > 0 && s.total > o.Limit {
		return 0, s.fail(CodeFull, fmt.Sprintf("the file has %d bytes, and no more than %d are taken", s.total, o.Limit))
	}
	n, err := s.receiveFile(w, answer, first)
	if err == nil && s.total >= 0 && n != s.total {
		err = fmt.Errorf("the file has %d bytes, and %d came", s.total, n)
	}
	return n, err
}

// begin sends the request until it is answered; a server that refuses the
// options is asked without.
func (s *session) begin(op opcode, name string, asked []option, want func(*packet) (bool, error)) error {
	if name == "" || strings.ContainsRune(name, 0) || len(name) > 255 {
		return fmt.Errorf("%q is no name that a request can carry", name)
	}
	err := s.exchange(request(op, name, asked), want)
	var refused *Error
	if errors.As(err, &refused) && refused.Code == CodeOption && len(asked) > 0 {
		s.fixed = false
		s.peer = &net.UDPAddr{IP: s.peer.IP, Port: s.peer.Port, Zone: s.peer.Zone}
		err = s.exchange(request(op, name, nil), want)
	}
	return err
}
