package rescue

import (
	"context"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/ipv4"
)

// long is more than an answer takes on any machine.
const long = time.Minute

// answering plays a device that answers echoes with what reply makes of them, at an address of this computer.
func answering(t *testing.T, ttl int, reply func(asked []byte) [][]byte) *net.UDPAddr {
	conn, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	require.NoError(t, err)
	t.Cleanup(func() { conn.Close() })
	require.NoError(t, ipv4.NewPacketConn(conn).SetTTL(ttl))
	go func() {
		b := make([]byte, 1500)
		for {
			n, from, err := conn.ReadFromUDP(b)
			if err != nil {
				return
			}
			for _, r := range reply(b[:n]) {
				conn.WriteToUDP(r, from)
			}
		}
	}()
	return conn.LocalAddr().(*net.UDPAddr)
}

// An answer is known by what was asked, and told with its time to live.
func TestEchoTellsTheTimeToLive(t *testing.T) {
	same := func(asked []byte) [][]byte { return [][]byte{asked} }
	p, err := NewEcho(answering(t, 200, same))
	require.NoError(t, err)
	defer p.Close()
	for range 3 {
		ttl, err := p.Probe(context.Background(), long)
		require.NoError(t, err)
		assert.Equal(t, 200, ttl)
	}
	var before [][]byte
	late := func(asked []byte) [][]byte { // what was asked before, something else, and then the answer
		out := append(append([][]byte{}, before...), []byte("fitcheck"), asked)
		before = append(before, append([]byte(nil), asked...))
		return out
	}
	p, err = NewEcho(answering(t, 64, late))
	require.NoError(t, err)
	defer p.Close()
	for range 3 {
		ttl, err := p.Probe(context.Background(), long)
		require.NoError(t, err)
		assert.Equal(t, 64, ttl)
	}
}

func TestEchoOfNobody(t *testing.T) {
	for name, reply := range map[string]func([]byte) [][]byte{
		"nothing comes":   func([]byte) [][]byte { return nil },
		"another answers": func([]byte) [][]byte { return [][]byte{[]byte("something else")} },
	} {
		p, err := NewEcho(answering(t, 64, reply))
		require.NoError(t, err)
		ttl, err := p.Probe(context.Background(), 20*time.Millisecond)
		assert.ErrorIs(t, err, ErrSilent, name)
		assert.Zero(t, ttl, name)
		ctx, cancel := context.WithCancel(context.Background())
		cancel()
		_, err = p.Probe(ctx, long)
		assert.ErrorIs(t, err, context.Canceled, name)
		require.NoError(t, p.Close())
	}
	shut := answering(t, 64, nil)
	conn, err := net.ListenUDP("udp4", nil)
	require.NoError(t, err)
	port := conn.LocalAddr().(*net.UDPAddr).Port
	require.NoError(t, conn.Close())
	p, err := NewEcho(&net.UDPAddr{IP: shut.IP, Port: port})
	require.NoError(t, err)
	defer p.Close()
	_, err = p.Probe(context.Background(), 20*time.Millisecond)
	assert.ErrorIs(t, err, ErrSilent, "nobody listens there")
}
