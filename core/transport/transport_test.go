package transport

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// memory is a shelf of files in memory.
type memory struct {
	files map[string][]byte
	sound atomic.Pointer[Refusal] // what a file says before its last bytes go out
}

type inMemory struct {
	*bytes.Reader
	size  int64
	sound error
}

func (m *inMemory) Size() int64  { return m.size }
func (m *inMemory) Sound() error { return m.sound }
func (*inMemory) Close() error   { return nil }

func (m *memory) Open(name string) (File, string, error) {
	name = strings.TrimPrefix(name, "/")
	b, ok := m.files[name]
	if !ok {
		return nil, "", &Refusal{NotThere, name + " was not staged"}
	}
	f := &inMemory{Reader: bytes.NewReader(b), size: int64(len(b))}
	if r := m.sound.Load(); r != nil {
		f.sound = r
	}
	return f, name, nil
}

func noise(n int) []byte {
	b := make([]byte, n)
	_, _ = rand.NewChaCha8([32]byte{byte(n)}).Read(b)
	return b
}

// told are the events of a server.
type told struct {
	mu  sync.Mutex
	all []Event
	at  chan Event
}

func (s *told) take(e Event) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if e.Kind != Going {
		s.all = append(s.all, e)
		s.at <- e
	}
}

// next is the next event of a kind.
func (s *told) next(t *testing.T, k Kind) Event {
	for {
		if e := <-s.at; e.Kind == k {
			return e
		}
	}
}

func offer(t *testing.T, p *Protocol, shelf Shelf) (Offer, *told) {
	o, err := p.Listen("127.0.0.1:0")
	require.NoError(t, err)
	ctx, stop := context.WithCancel(context.Background())
	s := &told{at: make(chan Event, 10_000)}
	done := make(chan error, 1)
	go func() { done <- o.Serve(ctx, shelf, s.take) }()
	t.Cleanup(func() {
		stop()
		assert.NoError(t, <-done, "it ends clean")
		o.Close()
	})
	return o, s
}

// Every protocol gives out what is on the shelf, whole, and nothing else, and tells of it.
func TestEveryProtocol(t *testing.T) {
	for _, p := range Protocols() {
		t.Run(p.Name, func(t *testing.T) {
			shelf := &memory{files: map[string][]byte{"empty": {}, "one": {7}, "boot/b.bin": noise(70_001), "block": noise(1428 * 4), "large.img": noise(33<<20 + 5)}}
			o, events := offer(t, p, shelf)
			at := o.Address().String()
			for name, want := range shelf.files {
				var got bytes.Buffer
				last := int64(-1)
				require.NoError(t, p.Fetch(context.Background(), at, name, o.Told(), &got, func(done, _ int64) { last = done }), name)
				assert.True(t, bytes.Equal(want, got.Bytes()), name)
				if len(want) > 0 {
					assert.Equal(t, int64(len(want)), last, "progress to the end")
				}
				e := events.next(t, Whole)
				assert.Equal(t, []any{name, "127.0.0.1", p.Name, int64(len(want)), int64(len(want)), false}, []any{e.Name, e.Peer, e.Protocol, e.Size, e.Done, e.Part()})
			}
			require.Error(t, p.Fetch(context.Background(), at, "other", o.Told(), io.Discard, nil))
			assert.Equal(t, "other was not staged", events.next(t, Refused).Why)

			// A file that changes before its end never comes over whole.
			shelf.sound.Store(&Refusal{Withdrawn, "block is withdrawn"})
			var got bytes.Buffer
			require.Error(t, p.Fetch(context.Background(), at, "block", o.Told(), &got, nil))
			assert.Less(t, got.Len(), 1428*4)
			assert.Equal(t, "block is withdrawn", events.next(t, Broken).Why)
			shelf.sound.Store(nil)

			// A client that goes away in the middle.
			ctx, stop := context.WithCancel(context.Background())
			err := p.Fetch(ctx, at, "large.img", o.Told(), writerFunc(func(b []byte) (int, error) { stop(); return len(b), nil }), nil)
			require.Error(t, err)
			e := events.next(t, Broken)
			assert.Less(t, e.Done, e.Size)
			assert.NotEmpty(t, e.Why)

			// Many at once.
			var wg sync.WaitGroup
			many := 200
			if p.Logins { // which is dear
				many = 30
			}
			for range many {
				wg.Go(func() {
					var got bytes.Buffer
					if assert.NoError(t, p.Fetch(context.Background(), at, "boot/b.bin", o.Told(), &got, nil)) {
						assert.True(t, bytes.Equal(shelf.files["boot/b.bin"], got.Bytes()))
					}
				})
			}
			wg.Wait()
		})
	}
}

// When the server ends, transfers under way end with it, and are told as broken off.
func TestEndsWithTransfersUnderWay(t *testing.T) {
	for _, p := range Protocols() {
		t.Run(p.Name, func(t *testing.T) {
			o, err := p.Listen("127.0.0.1:0")
			require.NoError(t, err)
			defer o.Close()
			ctx, stop := context.WithCancel(context.Background())
			s := &told{at: make(chan Event, 1000)}
			done := make(chan error, 1)
			go func() { done <- o.Serve(ctx, &memory{files: map[string][]byte{"f": noise(64 << 20)}}, s.take) }()
			begun, hold := make(chan struct{}), make(chan struct{})
			fetched := make(chan error, 1)
			go func() {
				var once sync.Once
				fetched <- p.Fetch(context.Background(), o.Address().String(), "f", o.Told(), writerFunc(func(b []byte) (int, error) {
					once.Do(func() { close(begun); <-hold })
					return len(b), nil
				}), nil)
			}()
			<-begun
			stop()
			require.NoError(t, <-done)
			close(hold)
			assert.Error(t, <-fetched)
			assert.NotEmpty(t, s.next(t, Broken).Why)
		})
	}
}

func TestHTTPParts(t *testing.T) {
	file := noise(10_000)
	o, events := offer(t, HTTP, &memory{files: map[string][]byte{"f": file}})
	ask := func(method, of string) (*http.Response, []byte) {
		q, err := http.NewRequest(method, "http://"+o.Address().String()+"/f", nil)
		require.NoError(t, err)
		if of != "" {
			q.Header.Set("Range", of)
		}
		r, err := http.DefaultClient.Do(q)
		require.NoError(t, err)
		defer r.Body.Close()
		b, err := io.ReadAll(r.Body)
		require.NoError(t, err)
		return r, b
	}
	r, b := ask("GET", "bytes=100-199")
	assert.Equal(t, 206, r.StatusCode)
	assert.Equal(t, file[100:200], b)
	e := events.next(t, Whole)
	assert.Equal(t, []any{int64(100), int64(100), int64(100), true}, []any{e.From, e.Length, e.Done, e.Part()})
	_, b = ask("GET", "bytes=-10")
	assert.Equal(t, file[9990:], b)
	assert.Equal(t, int64(9990), events.next(t, Whole).From)
	r, b = ask("GET", "bytes=0-9,100-109")
	assert.Equal(t, 200, r.StatusCode, "several parts at once: all of it")
	assert.Equal(t, file, b)
	assert.False(t, func() bool { e := events.next(t, Whole); return e.Part() }())
	r, _ = ask("GET", "bytes=20000-")
	assert.Equal(t, 416, r.StatusCode)
	assert.Contains(t, events.next(t, Refused).Why, "416")
	r, b = ask("HEAD", "")
	assert.Equal(t, []any{200, "10000", 0}, []any{r.StatusCode, r.Header.Get("Content-Length"), len(b)})
	for _, m := range []string{"PUT", "POST", "DELETE", "OPTIONS", "PROPFIND"} {
		r, _ = ask(m, "")
		assert.Equal(t, 405, r.StatusCode, m)
		assert.Contains(t, events.next(t, Refused).Why, m)
	}
}

func TestSFTPIsForItsUser(t *testing.T) {
	o, events := offer(t, SFTP, &memory{files: map[string][]byte{"f": noise(100)}})
	for _, wrong := range []string{ToldUser, ToldPassword} {
		other := map[string]string{ToldUser: o.Told()[ToldUser], ToldPassword: o.Told()[ToldPassword], ToldHostKey: o.Told()[ToldHostKey]}
		other[wrong] = "somebody"
		require.Error(t, SFTP.Fetch(context.Background(), o.Address().String(), "f", other, io.Discard, nil))
		assert.Contains(t, events.next(t, Refused).Why, "log in")
	}
	another, err := newSFTP(nil)
	require.NoError(t, err)
	assert.NotEqual(t, o.Told()[ToldPassword], another.told[ToldPassword], "each run has its own")
	assert.Len(t, o.Told()[ToldPassword], 12)
}

func TestAddresses(t *testing.T) {
	for given, want := range map[string]string{"": ":69", "192.0.2.1": "192.0.2.1:69", ":70": ":70", "::1": "[::1]:69", "[::1]:7": "[::1]:7", "host:7": "host:7", "192.0.2.1:0": "192.0.2.1:0", ":65535": ":65535"} {
		got, err := TFTP.WithPort(given)
		require.NoError(t, err, given)
		assert.Equal(t, want, got)
	}
	for _, bad := range []string{"host", "1:2:x", ":70000", ":65536", ":-1", ":x", "192.0.2.1:"} {
		_, err := TFTP.WithPort(bad)
		assert.Error(t, err, bad)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	_, err = HTTP.Listen(l.Addr().String())
	assert.True(t, errors.Is(err, ErrTaken), fmt.Sprint(err))
}

// FuzzHTTP: whatever is asked for, nothing is given out but what is on the shelf,
// and nothing falls over.
func FuzzHTTP(f *testing.F) {
	for _, s := range []string{"GET /f", "GET /../f", "HEAD /f", "PUT /f", "GET /%66", "GET \\f", "GET //f"} {
		f.Add([]byte(s))
	}
	shelf := &memory{files: map[string][]byte{"f": []byte("staged")}}
	h := &httpHandler{ctx: context.Background(), shelf: shelf, tell: func(Event) {}}
	f.Fuzz(func(t *testing.T, b []byte) {
		method, path, _ := strings.Cut(string(b), " ")
		if r, err := http.NewRequest(method, "http://x/", nil); err == nil {
			r.URL.Path = path
			r.RemoteAddr = "127.0.0.1:1"
			w := &recorded{header: http.Header{}}
			h.ServeHTTP(w, r)
			if w.status == http.StatusOK && method == "GET" {
				require.Equal(t, "staged", w.String())
			}
		}
	})
}

type recorded struct {
	bytes.Buffer
	header http.Header
	status int
}

func (r *recorded) Header() http.Header    { return r.header }
func (r *recorded) WriteHeader(status int) { r.status = status }
