package tftp

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func noise(n int) []byte {
	b := make([]byte, n)
	r := rand.NewChaCha8([32]byte{byte(n)})
	_, _ = r.Read(b)
	return b
}

// lossy loses and repeats packets that are sent.
type lossy struct {
	net.PacketConn
	mu   sync.Mutex
	r    *rand.Rand
	lose int // of a hundred
	late []byte
	to   net.Addr
}

func (l *lossy) WriteTo(b []byte, to net.Addr) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	n := l.r.IntN(100)
	switch {
	case n < l.lose:
		return len(b), nil // lost
	case n < l.lose*3/2: // comes twice
		_, _ = l.PacketConn.WriteTo(b, to)
	case n < l.lose*2: // and once more, late
		l.late, l.to = append([]byte(nil), b...), to
	case l.late != nil:
		_, _ = l.PacketConn.WriteTo(l.late, l.to)
		l.late = nil
	}
	return l.PacketConn.WriteTo(b, to)
}

func losing(percent int, seed uint64) func() (net.PacketConn, error) {
	return func() (net.PacketConn, error) {
		c, err := net.ListenUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
		if percent == 0 || err != nil {
			return c, err
		}
		return &lossy{PacketConn: c, r: rand.New(rand.NewPCG(seed, 1)), lose: percent}, nil
	}
}

type buffer struct {
	bytes.Buffer
	closed bool
}

func (b *buffer) Close() error { b.closed = true; return nil }

// serve runs a server with one file, and gives where it is and what it took.
func serve(t *testing.T, file []byte, o Options, listen func() (net.PacketConn, error)) (*net.UDPAddr, func(name string) *buffer) {
	conn, err := net.ListenUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	require.NoError(t, err)
	var mu sync.Mutex
	taken := map[string]*buffer{}
	s := &Server{Conn: conn, Options: o, Listen: listen,
		Send: func(_ *net.UDPAddr, name string) (io.ReadCloser, int64, error) {
			if name != "image.bin" {
				return nil, 0, &Error{CodeNotFound, "no such image"}
			}
			return io.NopCloser(bytes.NewReader(file)), int64(len(file)), nil
		},
		Receive: func(_ *net.UDPAddr, name string, size int64) (io.WriteCloser, error) {
			mu.Lock()
			defer mu.Unlock()
			if taken[name] != nil {
				return nil, &Error{CodeExists, ""}
			}
			if name == "secret" {
				return nil, errors.New("out of the question")
			}
			taken[name] = &buffer{}
			return taken[name], nil
		}}
	ctx, stop := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- s.Serve(ctx) }()
	t.Cleanup(func() {
		stop()
		assert.NoError(t, <-done)
		conn.Close()
	})
	return conn.LocalAddr().(*net.UDPAddr), func(name string) *buffer {
		mu.Lock()
		defer mu.Unlock()
		return taken[name]
	}
}

func TestTransfers(t *testing.T) {
	for _, c := range []struct {
		size, client, server, loss int
	}{
		{0, 0, 0, 0}, {1, 0, 0, 0}, {511, 0, 0, 0}, {512, 0, 0, 0}, {513, 0, 0, 0}, {100_000, 0, 0, 0},
		{1428 * 3, 1428, 65464, 0}, {1_000_000, 8192, 1428, 0}, {100_000, 1428, 0, 0}, {100_000, 0, 1428, 0}, {3, 8, 8, 0},
		{60_000, 0, 0, 15}, {200_000, 1428, 1428, 20}, {4096, 512, 512, 35},
		{1 << 25, 65464, 65464, 0},
		{65536*512 + 700, 0, 0, 0}, // block numbers begin anew
	} {
		name := fmt.Sprintf("%d bytes, blocks %d and %d, %d lost", c.size, c.client, c.server, c.loss)
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			file := noise(c.size)
			wait := time.Second
			if c.loss > 0 {
				wait = 20 * time.Millisecond
			}
			addr, taken := serve(t, file, Options{BlockSize: c.server, Timeout: wait, Retries: 40}, losing(c.loss, 7))
			var told int64
			o := Options{BlockSize: c.client, Timeout: wait, Retries: 40, Listen: losing(c.loss, uint64(c.size)), Progress: func(done, total int64) { told = done }}
			var got bytes.Buffer
			n, err := Get(context.Background(), addr, "image.bin", &got, o)
			require.NoError(t, err)
			assert.Equal(t, int64(c.size), n)
			assert.Equal(t, sha256.Sum256(file), sha256.Sum256(got.Bytes()))
			assert.Equal(t, n, told)
			require.NoError(t, Put(context.Background(), addr, "new.bin", bytes.NewReader(file), int64(c.size), o))
			require.Eventually(t, func() bool { b := taken("new.bin"); return b != nil && b.closed }, 5*time.Second, 5*time.Millisecond)
			assert.Equal(t, sha256.Sum256(file), sha256.Sum256(taken("new.bin").Bytes()))
		})
	}
}

func TestRefusals(t *testing.T) {
	addr, _ := serve(t, noise(3000), Options{BlockSize: 1428, Timeout: time.Second}, nil)
	o := Options{BlockSize: 1428, Timeout: time.Second}
	var told *Error
	_, err := Get(context.Background(), addr, "other.bin", io.Discard, o)
	require.ErrorAs(t, err, &told)
	assert.Equal(t, CodeNotFound, told.Code)
	assert.ErrorContains(t, err, "the other side says: file not found: no such image (TFTP error 1)")
	require.NoError(t, Put(context.Background(), addr, "a", bytes.NewReader(nil), 0, o))
	err = Put(context.Background(), addr, "a", bytes.NewReader(nil), 0, o)
	require.ErrorAs(t, err, &told)
	assert.Equal(t, CodeExists, told.Code)
	err = Put(context.Background(), addr, "secret", bytes.NewReader(nil), 0, o)
	require.ErrorAs(t, err, &told)
	assert.Equal(t, CodeAccess, told.Code, "what the server thinks is not told")
	assert.NotContains(t, err.Error(), "question")
	o.Limit = 2999
	_, err = Get(context.Background(), addr, "image.bin", io.Discard, o)
	assert.ErrorContains(t, err, "no more than 2999 are taken")
	o.BlockSize = 0
	_, err = Get(context.Background(), addr, "image.bin", io.Discard, o)
	assert.ErrorContains(t, err, "more than 2999 bytes")
}

func TestNobodyAnswers(t *testing.T) {
	conn, err := net.ListenUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	require.NoError(t, err)
	defer conn.Close()
	addr := conn.LocalAddr().(*net.UDPAddr)
	o := Options{Timeout: 10 * time.Millisecond, Retries: 2}
	err = Put(context.Background(), addr, "a", bytes.NewReader(nil), 0, o)
	assert.ErrorIs(t, err, ErrTimeout)
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Millisecond)
	defer cancel()
	begun := time.Now()
	_, err = Get(ctx, addr, "a", io.Discard, Options{})
	assert.ErrorIs(t, err, context.DeadlineExceeded)
	assert.Less(t, time.Since(begun), 5*time.Second)
}

// peer plays the other side by hand.
func peer(t *testing.T, play func(conn *net.UDPConn, from *net.UDPAddr, first *packet)) *net.UDPAddr {
	conn, err := net.ListenUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	require.NoError(t, err)
	t.Cleanup(func() { conn.Close() })
	go func() {
		b := make([]byte, 4096)
		n, from, err := conn.ReadFromUDP(b)
		if err != nil {
			return
		}
		p, err := parse(b[:n])
		if err == nil {
			play(conn, from, p)
		}
	}()
	return conn.LocalAddr().(*net.UDPAddr)
}

func TestOddPeers(t *testing.T) {
	o := Options{BlockSize: 1428, Timeout: 200 * time.Millisecond, Retries: 2}
	data := func(block uint16, n int) []byte {
		return append([]byte{0, 3, byte(block >> 8), byte(block)}, make([]byte, n)...)
	}
	for name, c := range map[string]struct {
		play func(conn *net.UDPConn, from *net.UDPAddr, first *packet)
		err  string
	}{
		"knows no options": {func(c *net.UDPConn, to *net.UDPAddr, _ *packet) { c.WriteTo(data(1, 100), to) }, ""},
		"refuses options": {func(c *net.UDPConn, to *net.UDPAddr, p *packet) {
			c.WriteTo(errorPacket(CodeOption, "none here"), to)
			b := make([]byte, 512)
			n, _, _ := c.ReadFromUDP(b)
			if again, err := parse(b[:n]); err == nil && len(again.options) == 0 && again.op == opRead {
				c.WriteTo(data(1, 100), to)
			}
		}, ""},
		"an option nobody asked for": {func(c *net.UDPConn, to *net.UDPAddr, _ *packet) {
			c.WriteTo(oack([]option{{"windowsize", "8"}}), to)
		}, "option windowsize was not asked for"},
		"larger blocks than asked": {func(c *net.UDPConn, to *net.UDPAddr, _ *packet) { c.WriteTo(oack([]option{{"blksize", "9000"}}), to) }, "a block size of 9000 was not asked for"},
		"a block that is too long": {func(c *net.UDPConn, to *net.UDPAddr, _ *packet) { c.WriteTo(data(1, 900), to) }, "a block of 900 bytes, and 512 were agreed on"},
		"garbage, then nothing":    {func(c *net.UDPConn, to *net.UDPAddr, _ *packet) { c.WriteTo([]byte{9, 9, 9}, to) }, "no answer"},
		"another length than told": {func(c *net.UDPConn, to *net.UDPAddr, _ *packet) {
			c.WriteTo(oack([]option{{"tsize", "500"}}), to)
			b := make([]byte, 512)
			_, _, _ = c.ReadFromUDP(b)
			c.WriteTo(data(1, 100), to)
		}, "the file has 500 bytes, and 100 came"},
		"another port in between": {func(c *net.UDPConn, to *net.UDPAddr, _ *packet) {
			c.WriteTo(oack([]option{{"blksize", "512"}}), to)
			stranger, _ := net.ListenUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
			defer stranger.Close()
			stranger.WriteTo(data(1, 3), to)
			b := make([]byte, 512)
			_, _, _ = stranger.ReadFromUDP(b) // is told off
			c.WriteTo(data(1, 100), to)
		}, ""},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			n, err := Get(context.Background(), peer(t, c.play), "x", io.Discard, o)
			if c.err != "" {
				assert.ErrorContains(t, err, c.err)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, int64(100), n)
		})
	}
}

// A late acknowledgement must not make every block go twice from then on.
func TestLateAcknowledgements(t *testing.T) {
	packets := make(chan int, 1)
	addr := peer(t, func(c *net.UDPConn, to *net.UDPAddr, _ *packet) {
		c.WriteTo(ack(0), to)
		n := 0
		b := make([]byte, 1024)
		for {
			c.SetReadDeadline(time.Now().Add(300 * time.Millisecond))
			size, from, err := c.ReadFromUDP(b)
			if err != nil {
				packets <- n
				return
			}
			if p, err := parse(b[:size]); err == nil && p.op == opData {
				n++
				c.WriteTo(ack(p.block), from)
				c.WriteTo(ack(p.block), from)
				c.WriteTo(ack(p.block-1), from)
			}
		}
	})
	require.NoError(t, Put(context.Background(), addr, "x", bytes.NewReader(make([]byte, 512*20+1)), 512*20+1, Options{Timeout: time.Second}))
	assert.Equal(t, 21, <-packets)
}

func FuzzPacket(f *testing.F) {
	f.Add(request(opRead, "image.bin", []option{{"blksize", "1428"}, {"tsize", "0"}}))
	f.Add(oack([]option{{"timeout", "3"}}))
	f.Add(ack(7))
	f.Add(errorPacket(1, "no"))
	f.Add([]byte{0, 3, 0, 1, 'x'})
	f.Fuzz(func(t *testing.T, b []byte) {
		p, err := parse(b)
		if err != nil {
			return
		}
		switch p.op {
		case opRead, opWrite:
			if again, err := parse(request(p.op, p.name, p.options)); err != nil || again.name != p.name || len(again.options) != len(p.options) {
				t.Fatalf("%+v %v", again, err)
			}
		case opAck:
			if !bytes.Equal(ack(p.block), b[:4]) {
				t.Fatal("ack")
			}
		}
	})
}
