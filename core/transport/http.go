package transport

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"
	"time"
)

// HTTP is HTTP/1.1 without encryption (RFC 9110, 9112): GET, HEAD and ranges.
var HTTP = register(&Protocol{Name: "http", Port: 80, Network: "tcp", Always: true, URL: true, Listen: listenHTTP, Fetch: fetchHTTP})

// Waits of the server. A client that takes nothing for idle is given up.
const (
	headWait = 10 * time.Second
	idle     = time.Minute
)

type httpOffer struct{ l net.Listener }

func listenHTTP(address string) (Offer, error) {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, listenError(err)
	}
	return &httpOffer{l}, nil
}

func (o *httpOffer) Address() net.Addr       { return o.l.Addr() }
func (o *httpOffer) Told() map[string]string { return nil }
func (o *httpOffer) Close() error            { return o.l.Close() }

// connKey finds the connection of a request.
type connKey struct{}

// Serve implements Offer.
func (o *httpOffer) Serve(ctx context.Context, shelf Shelf, tell func(Event)) error {
	h := &httpHandler{ctx: ctx, shelf: shelf, tell: tell}
	inner, stop := context.WithCancel(ctx)
	defer stop()
	s := &http.Server{Handler: h, ReadHeaderTimeout: headWait, IdleTimeout: idle, MaxHeaderBytes: 16 << 10, ErrorLog: slog.NewLogLogger(slog.Default().Handler(), slog.LevelDebug),
		BaseContext: func(net.Listener) context.Context { return inner },
		ConnContext: func(ctx context.Context, c net.Conn) context.Context { return context.WithValue(ctx, connKey{}, c) }}
	ended := make(chan struct{})
	unhook := context.AfterFunc(ctx, func() {
		defer close(ended)
		_ = s.Close()
	})
	err := s.Serve(o.l)
	if !unhook() {
		<-ended
	}
	h.under.Wait()
	if ctx.Err() != nil || errors.Is(err, http.ErrServerClosed) {
		return nil
	}
	return err
}

type httpHandler struct {
	ctx   context.Context // of the server
	shelf Shelf
	tell  func(Event)
	ids   atomic.Uint64
	under sync.WaitGroup
}

// ServeHTTP gives out what lies on the shelf under the path of the request.
func (h *httpHandler) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	h.under.Add(1)
	defer h.under.Done()
	e := Event{ID: h.ids.Add(1), Protocol: "http", Peer: peerOf(r.RemoteAddr), Asked: r.URL.Path}
	head := w.Header()
	head.Set("Server", "fitcheck")
	head.Set("X-Content-Type-Options", "nosniff")
	if r.Method != http.MethodGet && r.Method != http.MethodHead {
		head.Set("Allow", "GET, HEAD")
		http.Error(w, "only GET and HEAD are served", http.StatusMethodNotAllowed)
		refuse(h.tell, e, fmt.Errorf("it asks to %s, and nothing is taken", strings.ToUpper(r.Method)))
		return
	}
	f, name, err := h.shelf.Open(r.URL.Path)
	if err != nil {
		status := http.StatusNotFound
		var why *Refusal
		if errors.As(err, &why) {
			status = map[Reason]int{NotThere: http.StatusNotFound, Withdrawn: http.StatusGone, Illegal: http.StatusBadRequest}[why.Reason]
		}
		http.Error(w, err.Error(), status)
		refuse(h.tell, e, err)
		return
	}
	defer f.Close()
	head.Set("Content-Type", "application/octet-stream")
	out := &httpWriter{ResponseWriter: w, rc: http.NewResponseController(w)}
	e.Name, e.Size = name, f.Size()
	out.begin = func(from, length int64) { e.From, e.Length = from, length; out.t = begin(h.tell, e) }
	out.size, out.head = f.Size(), r.Method == http.MethodHead
	if strings.Contains(r.Header.Get("Range"), ",") { // several parts at once: all of it instead (RFC 9110, section 14.2)
		r.Header.Del("Range")
	}
	body := &seeker{sequential: sequential{File: f}}
	http.ServeContent(out, r, "", time.Time{}, body)
	if out.t == nil {
		if !out.head && out.status >= 400 {
			refuse(h.tell, e, fmt.Errorf("it asks for a part that the file has not (HTTP %d)", out.status))
		}
		return
	}
	if err = body.err; err == nil {
		err = out.err
	}
	if err == nil && out.t.Done >= out.t.Length {
		_ = out.rc.Flush()
		c, _ := r.Context().Value(connKey{}).(net.Conn)
		err = arrived(h.ctx, c) // the request's own context ends when the client goes, which it may
	}
	out.t.end(err)
	if err != nil || out.t.Done < out.t.Length {
		panic(http.ErrAbortHandler) // so that the client sees that it is not whole
	}
}

// seeker is a file as net/http reads it; what went wrong is kept.
type seeker struct {
	sequential
	err error
}

// Read implements io.Reader.
func (s *seeker) Read(b []byte) (int, error) {
	n, err := s.sequential.Read(b)
	if err != nil && err != io.EOF {
		s.err = err
	}
	return n, err
}

// Seek implements io.Seeker.
func (s *seeker) Seek(offset int64, whence int) (int64, error) {
	switch whence {
	case io.SeekCurrent:
		offset += s.at
	case io.SeekEnd:
		offset += s.Size()
	}
	if offset < 0 {
		return 0, errors.New("before the beginning")
	}
	s.at = offset
	return offset, nil
}

// httpWriter counts what goes out of the body.
type httpWriter struct {
	http.ResponseWriter
	rc     *http.ResponseController
	begin  func(from, length int64)
	t      *transfer
	size   int64
	head   bool
	status int
	err    error
}

// WriteHeader sees which part goes out.
func (w *httpWriter) WriteHeader(status int) {
	w.status = status
	from, length := int64(0), w.size
	switch status {
	case http.StatusOK:
	case http.StatusPartialContent:
		var to, all int64
		if n, _ := fmt.Sscanf(w.Header().Get("Content-Range"), "bytes %d-%d/%d", &from, &to, &all); n == 3 {
			length = to - from + 1
		}
	default:
		w.ResponseWriter.WriteHeader(status)
		return
	}
	if !w.head {
		w.begin(from, length)
	}
	w.ResponseWriter.WriteHeader(status)
}

// Write implements io.Writer.
func (w *httpWriter) Write(b []byte) (int, error) {
	_ = w.rc.SetWriteDeadline(time.Now().Add(idle))
	n, err := w.ResponseWriter.Write(b)
	if err != nil && w.err == nil {
		w.err = err
	}
	if w.t != nil {
		w.t.reached(w.t.Done + int64(n))
	}
	return n, err
}

func fetchHTTP(ctx context.Context, address, name string, _ map[string]string, w io.Writer, progress Progress) error {
	u := url.URL{Scheme: "http", Host: address, Path: "/" + strings.TrimPrefix(name, "/")}
	q, err := http.NewRequestWithContext(ctx, http.MethodGet, u.String(), nil)
	if err != nil {
		return err
	}
	client := &http.Client{Transport: &http.Transport{Proxy: nil, DisableKeepAlives: true, DisableCompression: true, ResponseHeaderTimeout: headWait},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	r, err := client.Do(q)
	if err != nil {
		return err
	}
	defer r.Body.Close()
	if r.StatusCode != http.StatusOK {
		return fmt.Errorf("the server says %s", r.Status)
	}
	done := int64(0)
	_, err = io.Copy(w, readerFunc(func(b []byte) (int, error) {
		n, err := r.Body.Read(b)
		done += int64(n)
		if progress != nil {
			progress(done, r.ContentLength)
		}
		return n, err
	}))
	return err
}

type readerFunc func([]byte) (int, error)

func (f readerFunc) Read(b []byte) (int, error) { return f(b) }
