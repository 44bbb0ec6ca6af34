package transport

import (
	"context"
	"errors"
	"io"
	"net"
	"sync/atomic"
	"time"

	"fitcheck/core/tftp"
)

// TFTP is the Trivial File Transfer Protocol (RFC 1350, with the options of RFC 2347 to
// 2349 and 7440).
var TFTP = register(&Protocol{Name: "tftp", Port: 69, Network: "udp", Always: true, Listen: listenTFTP, Fetch: fetchTFTP, Push: pushTFTP})

// What is agreed to at most, where a client asks: a block that fits the largest frame there
// is, and a window that fits the buffers of a small device.
const (
	largestBlock  = 65464
	largestWindow = 64
	mostTransfers = 1024
)

type tftpOffer struct {
	conn net.PacketConn
	o    tftp.Options
	only net.IP // who alone is served; nil for anybody
}

// usualTFTP is what a server agrees to that knows nothing of who asks.
var usualTFTP = tftp.Options{BlockSize: largestBlock, Window: largestWindow, Timeout: time.Second, Retries: 5}

func listenTFTP(address string) (Offer, error) {
	at, err := net.ResolveUDPAddr("udp", address)
	if err != nil {
		return nil, err
	}
	conn, err := net.ListenUDP("udp", at)
	if err != nil {
		return nil, listenError(err)
	}
	return &tftpOffer{conn: conn, o: usualTFTP}, nil
}

// OfferTFTP serves by a connection that is open already, with options of its own, and where
// only is given nobody else: a boot loader may know no options, and must get the one image.
func OfferTFTP(conn net.PacketConn, o tftp.Options, only net.IP) Offer {
	return &tftpOffer{conn, o, only}
}

// PushTFTP sends a file to somebody who waits for one, with options of its own. The error is
// ErrNoAnswer where nobody answered.
func PushTFTP(ctx context.Context, address *net.UDPAddr, name string, r io.Reader, size int64, o tftp.Options) error {
	return tftp.Put(ctx, address, name, r, size, o)
}

// ErrNoAnswer: the other side did not answer, or no longer.
var ErrNoAnswer = tftp.ErrTimeout

func (o *tftpOffer) Address() net.Addr       { return o.conn.LocalAddr() }
func (o *tftpOffer) Told() map[string]string { return nil }
func (o *tftpOffer) Close() error            { return o.conn.Close() }

// Serve implements Offer.
func (o *tftpOffer) Serve(ctx context.Context, shelf Shelf, tell func(Event)) error {
	var ids atomic.Uint64
	s := &tftp.Server{Conn: o.conn, Most: mostTransfers, Options: o.o}
	s.Send = func(from *net.UDPAddr, name string) (io.ReadCloser, int64, error) {
		if o.only != nil && !from.IP.Equal(o.only) {
			return nil, 0, &tftp.Error{Code: tftp.CodeAccess, Message: "not for you"}
		}
		e := Event{ID: ids.Add(1), Protocol: "tftp", Peer: from.IP.String(), Asked: name}
		f, own, err := shelf.Open(name)
		if err != nil {
			refuse(tell, e, err)
			return nil, 0, tftpRefusal(err)
		}
		e.Name, e.Size, e.Length = own, f.Size(), f.Size()
		t := begin(tell, e)
		return &tftpFile{sequential: sequential{File: f}, t: t}, f.Size(), nil
	}
	s.Refuse = func(from *net.UDPAddr, name string, err error) {
		refuse(tell, Event{ID: ids.Add(1), Protocol: "tftp", Peer: from.IP.String(), Asked: name}, err)
	}
	s.Progress = func(r io.ReadCloser, done int64) {
		if f, ok := r.(*tftpFile); ok {
			f.t.reached(min(done, f.t.Length))
		}
	}
	s.Ended = func(r io.ReadCloser, done int64, err error) {
		if f, ok := r.(*tftpFile); ok {
			if err == nil {
				f.t.Done = f.t.Length // netascii counts more
			}
			f.t.end(err)
		}
	}
	return s.Serve(ctx)
}

// tftpFile is a file under way, and the transfer that it is of.
type tftpFile struct {
	sequential
	t *transfer
}

// tftpRefusal is a refusal as the protocol says it.
func tftpRefusal(err error) error {
	var r *Refusal
	if !errors.As(err, &r) {
		return err
	}
	code := map[Reason]int{NotThere: tftp.CodeNotFound, Withdrawn: tftp.CodeAccess, Illegal: tftp.CodeAccess}[r.Reason]
	return &tftp.Error{Code: code, Message: r.Text}
}

func fetchTFTP(ctx context.Context, address, name string, _ map[string]string, w io.Writer, progress Progress) error {
	at, err := net.ResolveUDPAddr("udp", address)
	if err != nil {
		return err
	}
	_, err = tftp.Get(ctx, at, name, w, tftp.Options{BlockSize: 1428, Window: 16, Timeout: time.Second, Retries: 3, Progress: progress})
	return err
}

func pushTFTP(ctx context.Context, address, name string, r io.Reader, size int64, progress Progress) error {
	at, err := net.ResolveUDPAddr("udp", address)
	if err != nil {
		return err
	}
	return tftp.Put(ctx, at, name, r, size, tftp.Options{Timeout: time.Second, Progress: progress})
}
