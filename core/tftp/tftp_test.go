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
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/tftp/tftptest"
)

func noise(n int) []byte {
	b := make([]byte, n)
	r := rand.NewChaCha8([32]byte{byte(n)})
	_, _ = r.Read(b)
	return b
}

type buffer struct {
	bytes.Buffer
	closed bool
}

func (b *buffer) Close() error { b.closed = true; return nil }

// serve runs a server with one file on a network, until the test's bubble ends,
// and gives where it is and what it took.
func serve(t *testing.T, n *tftptest.Network, file []byte, o Options) (*net.UDPAddr, func(name string) *buffer) {
	conn := n.Listen(tftptest.Host(1), 69)
	var mu sync.Mutex
	taken := map[string]*buffer{}
	s := &Server{Conn: conn, Options: o, Listen: n.Opener(tftptest.Host(1)),
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
	t.Cleanup(func() { time.Sleep(time.Hour) }) // what lingers has ended by then
	return conn.LocalAddr().(*net.UDPAddr), func(name string) *buffer {
		mu.Lock()
		defer mu.Unlock()
		return taken[name]
	}
}

// client are the options of the side that asks.
func client(n *tftptest.Network, block int) Options {
	return Options{BlockSize: block, Timeout: time.Second, Retries: 40, Listen: n.Opener(tftptest.Host(2))}
}

func TestTransfers(t *testing.T) {
	for _, c := range []struct {
		size, client, server, loss, window int
	}{
		{0, 0, 0, 0, 0}, {1, 0, 0, 0, 0}, {511, 0, 0, 0, 0}, {512, 0, 0, 0, 0}, {513, 0, 0, 0, 0}, {100_000, 0, 0, 0, 0},
		{1428 * 3, 1428, 65464, 0, 0}, {1_000_000, 8192, 1428, 0, 0}, {100_000, 1428, 0, 0, 0}, {100_000, 0, 1428, 0, 0}, {3, 8, 8, 0, 0},
		{60_000, 0, 0, 15, 0}, {200_000, 1428, 1428, 20, 0}, {4096, 512, 512, 35, 0},
		{1 << 25, 65464, 65464, 0, 0},
		{65536*8 + 7, 8, 8, 0, 0}, // block numbers begin anew
		{0, 1428, 1428, 0, 16}, {1428 * 16, 1428, 1428, 0, 16}, {1428*17 + 1, 1428, 1428, 0, 16}, {1_000_000, 8192, 8192, 0, 64}, {200_000, 512, 512, 20, 8}, {65536*8 + 7, 8, 8, 0, 5}, {300_000, 1428, 1428, 20, 64},
	} {
		name := fmt.Sprintf("%d bytes, blocks %d and %d, %d lost, window %d", c.size, c.client, c.server, c.loss, c.window)
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				file := noise(c.size)
				n := &tftptest.Network{}
				if c.loss > 0 {
					n.Spoil = tftptest.Lossy(c.loss, uint64(c.size))
				}
				addr, taken := serve(t, n, file, Options{BlockSize: c.server, Window: c.window, Timeout: time.Second, Retries: 40})
				var told int64
				o := client(n, c.client)
				o.Window = c.window
				o.Progress = func(done, total int64) { told = done }
				var got bytes.Buffer
				size, err := Get(context.Background(), addr, "image.bin", &got, o)
				require.NoError(t, err)
				assert.Equal(t, int64(c.size), size)
				assert.Equal(t, sha256.Sum256(file), sha256.Sum256(got.Bytes()))
				assert.Equal(t, size, told)
				require.NoError(t, Put(context.Background(), addr, "new.bin", bytes.NewReader(file), int64(c.size), o))
				synctest.Wait()
				require.True(t, taken("new.bin").closed)
				assert.Equal(t, sha256.Sum256(file), sha256.Sum256(taken("new.bin").Bytes()))
			})
		})
	}
}

// How long nothing may come is counted from what came last, and in tries: a line on which a block passes every few seconds is
// slow, and goes on for minutes.
func TestASlowLineGoesOn(t *testing.T) {
	for _, c := range []struct {
		window, retries int
		every           time.Duration
	}{{1, 2, 5 * time.Second}, {1, 5, 2 * time.Second}, {4, 5, 2 * time.Second}} {
		synctest.Test(t, func(t *testing.T) {
			file := noise(40 * 512)
			var mu sync.Mutex
			var passed time.Time
			n := &tftptest.Network{Spoil: func(_, _ *net.UDPAddr, b []byte) int {
				mu.Lock()
				defer mu.Unlock()
				if opcode(b[1]) == opData && time.Since(passed) < c.every {
					return 0
				}
				if opcode(b[1]) == opData {
					passed = time.Now()
				}
				return 1
			}}
			impatient := Options{BlockSize: 512, Window: c.window, Timeout: time.Second, Retries: c.retries, Listen: n.Opener(tftptest.Host(2))}
			addr, taken := serve(t, n, file, Options{BlockSize: 512, Window: c.window, Timeout: time.Second, Retries: c.retries})
			begun := time.Now()
			var got bytes.Buffer
			_, err := Get(context.Background(), addr, "image.bin", &got, impatient)
			require.NoError(t, err)
			assert.Equal(t, file, got.Bytes())
			assert.Greater(t, time.Since(begun), time.Minute)
			require.NoError(t, Put(context.Background(), addr, "new.bin", bytes.NewReader(file), int64(len(file)), impatient))
			synctest.Wait()
			assert.Equal(t, file, taken("new.bin").Bytes())
		})
	}
}

// On a line that loses one packet in twenty each way, the wait follows the round trip: a
// megabyte is over in seconds, not in minutes. With a window, it is over sooner still.
func TestLossIsMadeUpQuickly(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		file := noise(1_000_000)
		took := map[int]time.Duration{}
		for _, window := range []int{1, 16} {
			n := &tftptest.Network{}
			addr, _ := serve(t, n, file, Options{BlockSize: 1428, Window: 16, Timeout: time.Second})
			o := client(n, 1428)
			o.Window = window
			r := rand.New(rand.NewPCG(7, 7))
			packets := 0
			n.Spoil = func(_, _ *net.UDPAddr, _ []byte) int {
				if packets++; packets > 6 && r.IntN(20) == 0 { // the first tell how long the line is
					return 0
				}
				return 1
			}
			begin := time.Now()
			_, err := Get(context.Background(), addr, "image.bin", io.Discard, o)
			require.NoError(t, err)
			took[window] = time.Since(begin)
			n.Spoil = nil
			begin = time.Now()
			require.NoError(t, Put(context.Background(), addr, "new.bin", bytes.NewReader(file), int64(len(file)), o))
			assert.Less(t, time.Since(begin), time.Second)
		}
		assert.Less(t, took[1], 4*time.Second)
		assert.Less(t, took[16], took[1])
	})
}

// On a line that loses, repeats and reorders, files come over whole, with windows and without.
func TestABadLine(t *testing.T) {
	for _, window := range []int{1, 3, 16, 64} {
		for seed := range uint64(8) {
			synctest.Test(t, func(t *testing.T) {
				file := noise(150_000)
				n := &tftptest.Network{Spoil: tftptest.Bad(8, seed)}
				addr, taken := serve(t, n, file, Options{BlockSize: 1428, Window: window, Timeout: time.Second, Retries: 20})
				o := client(n, 1428)
				o.Window = window
				var got bytes.Buffer
				_, err := Get(context.Background(), addr, "image.bin", &got, o)
				require.NoError(t, err)
				assert.True(t, bytes.Equal(file, got.Bytes()), "window %d, seed %d", window, seed)
				require.NoError(t, Put(context.Background(), addr, "new.bin", bytes.NewReader(file), int64(len(file)), o))
				synctest.Wait()
				assert.True(t, bytes.Equal(file, taken("new.bin").Bytes()), "window %d, seed %d", window, seed)
			})
		}
	}
}

// What a client that asks for netascii turns back is the file, to the byte.
func TestNetascii(t *testing.T) {
	file := append(noise(70_000), "\r\n\n\r\r\x00\r"...)
	sent, err := io.ReadAll(newNetascii(bytes.NewReader(file)))
	require.NoError(t, err)
	assert.Equal(t, len(file)+bytes.Count(file, []byte("\n"))+bytes.Count(file, []byte("\r")), len(sent))
	back := bytes.ReplaceAll(sent, []byte("\r\n"), []byte("\n"))
	back = bytes.ReplaceAll(back, []byte("\r\x00"), []byte("\r"))
	assert.True(t, bytes.Equal(file, back))
}

// The kernel's sockets do what the network in memory does.
func TestOverTheKernel(t *testing.T) {
	conn, err := net.ListenUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	require.NoError(t, err)
	defer conn.Close()
	file := noise(100_000)
	s := &Server{Conn: conn, Options: Options{BlockSize: 1428, Timeout: time.Minute}, Send: func(*net.UDPAddr, string) (io.ReadCloser, int64, error) {
		return io.NopCloser(bytes.NewReader(file)), int64(len(file)), nil
	}}
	ctx, stop := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- s.Serve(ctx) }()
	var got bytes.Buffer
	_, err = Get(context.Background(), conn.LocalAddr().(*net.UDPAddr), "x", &got, Options{BlockSize: 1428, Timeout: time.Minute})
	require.NoError(t, err)
	assert.True(t, bytes.Equal(file, got.Bytes()))
	stop()
	assert.NoError(t, <-done)
}

func TestRefusals(t *testing.T) {
	synctest.Test(t, refusals)
}

func refusals(t *testing.T) {
	n := &tftptest.Network{}
	addr, _ := serve(t, n, noise(3000), Options{BlockSize: 1428, Timeout: time.Second})
	o := client(n, 1428)
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
	o.Limit = 3000
	_, err = Get(context.Background(), addr, "image.bin", io.Discard, o)
	require.NoError(t, err, "as many as may be taken")
	o.Limit = 2999
	_, err = Get(context.Background(), addr, "image.bin", io.Discard, o)
	assert.ErrorContains(t, err, "no more than 2999 are taken")
	o.BlockSize = 0
	_, err = Get(context.Background(), addr, "image.bin", io.Discard, o)
	assert.ErrorContains(t, err, "more than 2999 bytes")
}

func TestNobodyAnswers(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		n := &tftptest.Network{}
		addr := n.Listen(tftptest.Host(1), 69).LocalAddr().(*net.UDPAddr)
		o := client(n, 0)
		o.Retries = 2
		begun := time.Now()
		err := Put(context.Background(), addr, "a", bytes.NewReader(nil), 0, o)
		assert.ErrorIs(t, err, ErrTimeout)
		assert.Equal(t, 7*time.Second, time.Since(begun), "1 s, 2 s and 4 s")
		ctx, cancel := context.WithTimeout(context.Background(), 30*time.Millisecond)
		defer cancel()
		_, err = Get(ctx, addr, "a", io.Discard, client(n, 0))
		assert.ErrorIs(t, err, context.DeadlineExceeded)
		time.Sleep(time.Hour)
	})
}

// peer plays the other side by hand.
func peer(t *testing.T, n *tftptest.Network, play func(conn *tftptest.Conn, from *net.UDPAddr, first *packet)) *net.UDPAddr {
	conn := n.Listen(tftptest.Host(1), 69)
	go func() {
		b := make([]byte, 4096)
		n, from, err := conn.ReadFrom(b)
		if err != nil {
			return
		}
		p, err := parse(b[:n])
		if err == nil {
			play(conn, from.(*net.UDPAddr), p)
		}
	}()
	t.Cleanup(func() {
		conn.Close()
		time.Sleep(time.Hour) // what lingers has ended by then
	})
	return conn.LocalAddr().(*net.UDPAddr)
}

// What comes from another port than the one that asked is told off, and is no part of the transfer.
func TestServerKeepsToThePortThatAsked(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		n := &tftptest.Network{}
		file := noise(600)
		addr, _ := serve(t, n, file, Options{Timeout: time.Second})
		asks, stranger := n.Listen(tftptest.Host(2), 0), n.Listen(tftptest.Host(2), 0)
		b := make([]byte, 1000)
		receive := func(c *tftptest.Conn) (*packet, net.Addr) {
			k, from, err := c.ReadFrom(b)
			require.NoError(t, err)
			p, err := parse(bytes.Clone(b[:k]))
			require.NoError(t, err)
			return p, from
		}
		asks.WriteTo([]byte("\x00\x01image.bin\x00octet\x00"), addr)
		p, from := receive(asks)
		require.Equal(t, file[:512], p.data)
		stranger.WriteTo(ack(1), from)
		p, _ = receive(stranger)
		assert.Equal(t, opError, p.op)
		assert.Equal(t, CodeUnknownID, p.code)
		asks.WriteTo(ack(1), from)
		p, _ = receive(asks)
		assert.Equal(t, file[512:], p.data)
		asks.WriteTo(ack(2), from)
	})
}

func TestOddPeers(t *testing.T) {
	data := func(block uint16, n int) []byte {
		return append([]byte{0, 3, byte(block >> 8), byte(block)}, make([]byte, n)...)
	}
	for name, c := range map[string]struct {
		play func(conn *tftptest.Conn, from *net.UDPAddr, first *packet)
		err  string
	}{
		"knows no options": {func(c *tftptest.Conn, to *net.UDPAddr, _ *packet) { c.WriteTo(data(1, 100), to) }, ""},
		"refuses options": {func(c *tftptest.Conn, to *net.UDPAddr, p *packet) {
			c.WriteTo(errorPacket(CodeOption, "none here"), to)
			b := make([]byte, 512)
			n, _, _ := c.ReadFrom(b)
			if again, err := parse(b[:n]); err == nil && len(again.options) == 0 && again.op == opRead {
				c.WriteTo(data(1, 100), to)
			}
		}, ""},
		"an option nobody asked for": {func(c *tftptest.Conn, to *net.UDPAddr, _ *packet) {
			c.WriteTo(oack([]option{{"windowsize", "8"}}), to)
		}, "option windowsize was not asked for"},
		"larger blocks than asked": {func(c *tftptest.Conn, to *net.UDPAddr, _ *packet) { c.WriteTo(oack([]option{{"blksize", "9000"}}), to) }, "a block size of 9000 was not asked for"},
		"a block that is too long": {func(c *tftptest.Conn, to *net.UDPAddr, _ *packet) { c.WriteTo(data(1, 900), to) }, "a block of 900 bytes, and 512 were agreed on"},
		"garbage, then nothing":    {func(c *tftptest.Conn, to *net.UDPAddr, _ *packet) { c.WriteTo([]byte{9, 9, 9}, to) }, "no answer"},
		"another length than told": {func(c *tftptest.Conn, to *net.UDPAddr, _ *packet) {
			c.WriteTo(oack([]option{{"tsize", "500"}}), to)
			b := make([]byte, 512)
			_, _, _ = c.ReadFrom(b)
			c.WriteTo(data(1, 100), to)
		}, "the file has 500 bytes, and 100 came"},
		"another port in between": {func(c *tftptest.Conn, to *net.UDPAddr, _ *packet) {
			c.WriteTo(oack([]option{{"blksize", "512"}}), to)
			stranger := c.Network().Listen(tftptest.Host(1), 0)
			defer stranger.Close()
			stranger.WriteTo(data(1, 3), to)
			b := make([]byte, 512)
			_, _, _ = stranger.ReadFrom(b) // is told off
			c.WriteTo(data(1, 100), to)
		}, ""},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				network := &tftptest.Network{}
				o := client(network, 1428)
				o.Retries = 2
				n, err := Get(context.Background(), peer(t, network, c.play), "x", io.Discard, o)
				if c.err != "" {
					assert.ErrorContains(t, err, c.err)
					return
				}
				require.NoError(t, err)
				assert.Equal(t, int64(100), n)
			})
		})
	}
}

// What is meant as a request and cannot be read is answered; other packets are left alone.
func TestUnreadableRequests(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		network := &tftptest.Network{}
		addr, _ := serve(t, network, noise(100), Options{Timeout: time.Second})
		for what, c := range map[string]struct {
			packet  string
			answers bool
		}{
			"to read, and nothing":           {"\x00\x01", true},
			"to read, a name without an end": {"\x00\x01image.bin", true},
			"to write, without a mode":       {"\x00\x02image.bin\x00", true},
			"of another first byte":          {"\x01\x01image.bin", false},
			"one byte":                       {"\x00", false},
			"nothing":                        {"", false},
			"data that nobody asked for":     {"\x00\x03\x00\x01abc", false},
			"no operation":                   {"\x00\x09image.bin\x00octet\x00", false},
			"half an acknowledgement":        {"\x00\x04\x00", false},
		} {
			conn := network.Listen(tftptest.Host(3), 0)
			conn.WriteTo([]byte(c.packet), addr)
			require.NoError(t, conn.SetReadDeadline(time.Now().Add(time.Minute)))
			b := make([]byte, 600)
			n, _, err := conn.ReadFrom(b)
			if !c.answers {
				assert.Error(t, err, what)
			} else if assert.NoError(t, err, what) {
				p, err := parse(b[:n])
				require.NoError(t, err, what)
				assert.Equal(t, opError, p.op, what)
				assert.Contains(t, string(b[:n]), "the request cannot be read: ", what)
			}
			conn.Close()
		}
	})
}

// What is asked in another mode than the binary one, or to write a text, is refused by a reason that tells what to ask.
func TestModesThatAreNotServed(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		network := &tftptest.Network{}
		addr, taken := serve(t, network, noise(100), Options{Timeout: time.Second})
		for packet, mode := range map[string]string{"\x00\x01image.bin\x00mail\x00": "mail", "\x00\x02x\x00netascii\x00": "netascii", "\x00\x02x\x00Mail\x00": "mail"} {
			conn := network.Listen(tftptest.Host(3), 0)
			conn.WriteTo([]byte(packet), addr)
			require.NoError(t, conn.SetReadDeadline(time.Now().Add(time.Minute)))
			b := make([]byte, 600)
			n, _, err := conn.ReadFrom(b)
			require.NoError(t, err, packet)
			p, err := parse(b[:n])
			require.NoError(t, err, packet)
			assert.Equal(t, opError, p.op, packet)
			assert.Equal(t, CodeIllegal, p.code, packet)
			assert.Equal(t, fmt.Sprintf("the mode %q is not served; ask in octet mode (binary)", mode), p.message)
			assert.Nil(t, taken("x"))
			conn.Close()
		}
	})
}

// A late acknowledgement must not make every block go twice from then on.
func TestLateAcknowledgements(t *testing.T) {
	synctest.Test(t, lateAcknowledgements)
}

func lateAcknowledgements(t *testing.T) {
	network := &tftptest.Network{}
	packets := make(chan int, 1)
	addr := peer(t, network, func(c *tftptest.Conn, to *net.UDPAddr, _ *packet) {
		c.WriteTo(ack(0), to)
		n := 0
		b := make([]byte, 1024)
		for {
			c.SetReadDeadline(time.Now().Add(300 * time.Millisecond))
			size, from, err := c.ReadFrom(b)
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
	require.NoError(t, Put(context.Background(), addr, "x", bytes.NewReader(make([]byte, 512*20+1)), 512*20+1, client(network, 0)))
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

// A server on any address answers from the one that it was asked at, by either version of
// the protocol.
func TestAnswersFromWhereItWasAsked(t *testing.T) {
	for _, at := range []string{"127.0.0.1", "127.0.0.9", "::1"} {
		t.Run(at, func(t *testing.T) {
			conn, err := net.ListenUDP("udp", &net.UDPAddr{})
			require.NoError(t, err)
			defer conn.Close()
			file := noise(3000)
			s := &Server{Conn: conn, Options: Options{BlockSize: 1428, Timeout: time.Minute}, Send: func(*net.UDPAddr, string) (io.ReadCloser, int64, error) {
				return io.NopCloser(bytes.NewReader(file)), int64(len(file)), nil
			}}
			ctx, stop := context.WithCancel(context.Background())
			done := make(chan error, 1)
			go func() { done <- s.Serve(ctx) }()
			to := &net.UDPAddr{IP: net.ParseIP(at), Port: conn.LocalAddr().(*net.UDPAddr).Port}
			if probe, err := net.DialUDP("udp", nil, to); err != nil {
				t.Skip("this machine has no " + at)
			} else {
				probe.Close()
			}
			var got bytes.Buffer
			_, err = Get(context.Background(), to, "x", &got, Options{BlockSize: 1428, Timeout: time.Minute})
			require.NoError(t, err)
			assert.True(t, bytes.Equal(file, got.Bytes()))
			stop()
			assert.NoError(t, <-done)
		})
	}
}
