package serving

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/transport"
)

// played is a protocol that gives out what the shelf has, to whoever asks by ask.
type played struct {
	at   string
	tell func(transport.Event)
	up   chan struct{}
	ends error // what serving ends with at once
	id   uint64
}

func (p *played) Serve(ctx context.Context, _ transport.Shelf, tell func(transport.Event)) error {
	if p.ends != nil {
		return p.ends
	}
	p.tell = tell
	close(p.up)
	<-ctx.Done()
	return nil
}
func (p *played) Address() net.Addr       { return net.UDPAddrFromAddrPort(netip.MustParseAddrPort(p.at)) }
func (p *played) Told() map[string]string { return nil }
func (p *played) Close() error            { return nil }

// fetch plays a transfer to a peer.
func (p *played) fetch(f *Folder, peer, name string) {
	p.id++
	e := transport.Event{Kind: transport.Asked, ID: p.id, Protocol: "played", Peer: peer, Name: name, Size: f.Size(name), Length: f.Size(name)}
	p.tell(e)
	e.Kind, e.Done = transport.Whole, e.Size
	p.tell(e)
}

// heard is what a session told.
type heard struct {
	mu  sync.Mutex
	all []News
}

func (h *heard) tell(n News) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.all = append(h.all, n)
}

func (h *heard) news() []News {
	h.mu.Lock()
	defer h.mu.Unlock()
	return slices.Clone(h.all)
}

// session makes one whose own fetch gives what give says; "" the right thing.
func session(t *testing.T, p *played, network, give string) (*Session, *heard) {
	f := opened(t, staged(t))
	p.up = make(chan struct{})
	told := &heard{}
	protocol := &transport.Protocol{Name: "played", Network: network, Fetch: func(_ context.Context, _, name string, _ map[string]string, w io.Writer, _ transport.Progress) error {
		if give == "nothing" {
			return errors.New("nobody there")
		}
		<-p.up
		p.fetch(f, "127.0.0.1", name)
		if give != "" {
			_, err := io.WriteString(w, give)
			return err
		}
		file, _, err := f.Open(name)
		if err != nil {
			return err
		}
		_, err = io.WriteString(w, read(t, file))
		return err
	}}
	s := NewSession(f, []Listening{{protocol, p}}, told.tell)
	return s, told
}

// A session tells that nobody asks, once, and what may be in the way; and ends when all was fetched.
func TestSessionTellsOfSilence(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		p := &played{at: "192.0.2.1:69"}
		s, told := session(t, p, "udp", "")
		assert.Equal(t, 90*time.Second, s.Wait, "as long as a staged device takes")
		ended := make(chan error, 1)
		isReady := false
		go func() {
			ended <- s.Run(context.Background(), true, func() error { isReady = true; return nil })
		}()
		synctest.Wait()
		require.True(t, isReady)
		assert.Empty(t, told.news(), "its own fetch is nobody's")
		assert.Empty(t, s.Ledger.Fetches())
		time.Sleep(85 * time.Second)
		synctest.Wait()
		assert.Empty(t, told.news())
		time.Sleep(time.Minute)
		synctest.Wait()
		require.Len(t, told.news(), 1, "it is told once")
		assert.True(t, told.news()[0].Quiet)
		assert.Contains(t, told.news()[0].Why, "nobody has asked for anything")
		assert.Contains(t, told.news()[0].Why, "let through UDP port 69?")
		assert.Contains(t, told.news()[0].Why, "further UDP ports")
		p.fetch(s.Folder, "192.0.2.7", "m.txt")
		synctest.Wait()
		require.Len(t, told.news(), 3)
		time.Sleep(3 * time.Minute)
		synctest.Wait()
		require.Len(t, told.news(), 4, "after an answer, silence is told again")
		assert.Equal(t, "m.txt was read, and boot/b.bin was never asked for; m.txt was read, and main.img was never asked for", told.news()[3].Why)
		p.fetch(s.Folder, "192.0.2.7", "main.img")
		p.fetch(s.Folder, "192.0.2.7", "boot/b.bin")
		synctest.Wait()
		select {
		case err := <-ended:
			t.Fatalf("one of two has fetched it: %v", err)
		default:
		}
		p.fetch(s.Folder, "192.0.2.8", "boot/b.bin")
		assert.NoError(t, <-ended)
	})
}

// By TCP there are no further ports to let through; without -once a session goes on until it is ended.
func TestSessionGoesOn(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		p := &played{at: "[2001:db8::1]:80"}
		s, told := session(t, p, "tcp", "")
		s.Wait = 2 * time.Second
		ctx, stop := context.WithCancel(context.Background())
		ended := make(chan error, 1)
		go func() { ended <- s.Run(ctx, false, func() error { return nil }) }()
		time.Sleep(time.Minute)
		synctest.Wait()
		require.Len(t, told.news(), 1)
		assert.True(t, strings.HasSuffix(told.news()[0].Why, "let through TCP port 80?"), told.news()[0].Why)
		for _, one := range []struct{ peer, name string }{{"1", "m.txt"}, {"1", "main.img"}, {"1", "boot/b.bin"}, {"2", "boot/b.bin"}} {
			p.fetch(s.Folder, one.peer, one.name)
		}
		time.Sleep(time.Minute)
		synctest.Wait()
		assert.Len(t, told.news(), 9, "nothing is missing any more, so that silence is nothing to tell")
		stop()
		assert.ErrorIs(t, <-ended, context.Canceled)
	})
}

// What this computer itself cannot fetch, or fetches otherwise than it was staged, is not offered.
func TestSessionFetchesFirst(t *testing.T) {
	for give, want := range map[string]string{"nothing": "could not fetch m.txt by it (nobody there)", "something else": "is not what was staged (SHA-256 "} {
		s, _ := session(t, &played{at: "127.0.0.1:69"}, "udp", give)
		err := s.Run(context.Background(), false, func() error { t.Error("it is not ready"); return nil })
		assert.ErrorContains(t, err, want)
	}
	s, _ := session(t, &played{at: "127.0.0.1:69"}, "udp", "")
	assert.EqualError(t, s.Run(context.Background(), false, func() error { return errors.New("the screen is gone") }), "the screen is gone")
	p := &played{at: "127.0.0.1:69"}
	s, _ = session(t, p, "udp", "")
	s.Offers = append(s.Offers, Listening{&transport.Protocol{Name: "other", Fetch: s.Offers[0].Fetch}, &played{at: "127.0.0.1:70", ends: errors.New("the port is taken")}})
	assert.ErrorContains(t, s.Run(context.Background(), false, func() error { return nil }), "other: the port is taken")
}

// Where something is offered, and which devices have that address in their own network.
func TestReaches(t *testing.T) {
	own := []netip.Prefix{netip.MustParsePrefix("127.0.0.1/8"), netip.MustParsePrefix("192.0.2.3/24"), netip.MustParsePrefix("198.51.100.1/24"), netip.MustParsePrefix("fe80::1/64"), netip.MustParsePrefix("2001:db8::3/64")}
	reaches := func(at string, own []netip.Prefix) []Reach {
		s, _ := session(t, &played{at: at}, "udp", "")
		return s.Reaches(s.Offers[0], own)
	}
	assert.Equal(t, []Reach{{Host: "192.0.2.3", Inside: []string{"cab"}}}, reaches("192.0.2.3:69", own))
	assert.Equal(t, []Reach{{Host: "198.51.100.1", Outside: []string{"cab"}}}, reaches("198.51.100.1:69", own))
	assert.Equal(t, []Reach{{Host: "192.0.2.3", Inside: []string{"cab"}}, {Host: "198.51.100.1", Outside: []string{"cab"}}}, reaches("0.0.0.0:69", own))
	assert.Equal(t, []Reach{{Host: "192.0.2.3", Inside: []string{"cab"}}, {Host: "198.51.100.1", Outside: []string{"cab"}}, {Host: "2001:db8::3", Outside: []string{"cab"}}}, reaches("[::]:69", own))
	assert.Equal(t, []Reach{{Host: "127.0.0.1", Outside: []string{"cab"}}}, reaches("0.0.0.0:69", own[:1]))
}

// unreadable is an address that says nothing of where it is.
type unreadable struct{ *played }

func (unreadable) Address() net.Addr { return &net.UnixAddr{Name: "pipe", Net: "unix"} }

// Its own fetch goes to where each protocol listens: to this computer where that is everywhere, and past what has no address.
func TestItsOwnFetchGoesWhereItListens(t *testing.T) {
	f := opened(t, staged(t))
	var asked []string
	fetch := func(_ context.Context, at, name string, _ map[string]string, w io.Writer, _ transport.Progress) error {
		asked = append(asked, at)
		file, _, err := f.Open(name)
		if err != nil {
			return err
		}
		_, err = io.WriteString(w, read(t, file))
		return err
	}
	var all []Listening
	for _, at := range []string{"0.0.0.0:69", "192.0.2.1:6969", "[::]:80", "[2001:db8::1]:443"} {
		all = append(all, Listening{&transport.Protocol{Name: "played", Network: "udp", Fetch: fetch}, &played{at: at}})
	}
	all = slices.Insert(all, 1, Listening{&transport.Protocol{Name: "played", Network: "unix", Fetch: fetch}, unreadable{&played{}}})
	s := NewSession(f, all, func(News) {})
	require.NoError(t, s.fetchOwn(context.Background()))
	require.Len(t, asked, 4)
	assert.Equal(t, []string{"127.0.0.1:69", "192.0.2.1:6969", "[2001:db8::1]:443"}, slices.Delete(slices.Clone(asked), 2, 3))
	assert.Contains(t, []string{"127.0.0.1:80", "[::1]:80"}, asked[2])

	given, stop := context.WithCancel(context.Background())
	stop()
	assert.ErrorIs(t, s.fetchOwn(given), context.Canceled)
	all[0].Fetch = func(context.Context, string, string, map[string]string, io.Writer, transport.Progress) error {
		return errors.New("nobody there")
	}
	assert.ErrorContains(t, s.fetchOwn(context.Background()), "this computer itself could not fetch")
	all[0].Fetch = func(context.Context, string, string, map[string]string, io.Writer, transport.Progress) error {
		return nil
	}
	assert.ErrorContains(t, s.fetchOwn(context.Background()), "is not what was staged")
}

// A ledger holds so many fetches and no more: what asks under ever other names fills no memory, and what is known goes on being
// written down.
func TestLedgerIsBounded(t *testing.T) {
	l := NewLedger(opened(t, staged(t)))
	asked := func(i int) transport.Event {
		return transport.Event{Kind: transport.Asked, ID: uint64(i), Peer: fmt.Sprintf("192.0.2.1:%d", i), Name: "m.txt", Size: 1}
	}
	for i := range maxFetches + 2 {
		l.Take(asked(i))
	}
	require.Len(t, l.Fetches(), maxFetches)
	l.Take(asked(0))
	assert.Equal(t, 2, l.Fetches()[0].Times)
	assert.Len(t, l.Fetches(), maxFetches)
}
