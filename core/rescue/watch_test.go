package rescue

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/image"
	"fitcheck/core/rulebook"
	"fitcheck/core/standin"
	"fitcheck/core/tftp"
	"fitcheck/demo"
)

const rules = `kind: rulebook
title: t
maker: m
models: {VR-510: {families: [stock], revisions: {v1: {arch: mips}, v2: {arch: mips}}}}
families: {stock: {components: {main: {}}}}
recovery:
  - models: [VR-510]
    revisions: [v2]
    signs: {ping_ttl: 200}
    not_yet: {ping_ttl: 64}
    transfer: {protocol: tftp, within: 5s}
    accepts: {formats: [trx], largest: 1MiB, wrapped: false}
`

// trial is a stand-in and a watch on it.
type trial struct {
	s      *standin.StandIn
	w      *Watch
	mu     sync.Mutex
	events []string
	states []string
}

func (x *trial) told() string {
	x.mu.Lock()
	defer x.mu.Unlock()
	return strings.Join(x.events, "\n")
}

func (x *trial) went() string {
	x.mu.Lock()
	defer x.mu.Unlock()
	return strings.Join(x.states, "\n")
}

func begin(t *testing.T, data []byte, change func(*trial)) *trial {
	rb, err := rulebook.Read("r.yaml", []byte(rules))
	require.NoError(t, err)
	listen := func() *net.UDPConn {
		c, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
		require.NoError(t, err)
		t.Cleanup(func() { c.Close() })
		return c
	}
	x := &trial{}
	x.s = &standin.StandIn{Rule: &rb.Recovery[0], Model: "VR-510", Board: "v2", Formats: image.Builtin(), Echo: listen(), Boot: listen(), OldFor: 400 * time.Millisecond, DeadFor: 100 * time.Millisecond, WaitFor: 1500 * time.Millisecond, WriteFor: 300 * time.Millisecond}
	x.s.Tell = func(state standin.State, text string) {
		x.mu.Lock()
		defer x.mu.Unlock()
		x.states = append(x.states, string(state)+": "+text)
	}
	sum := sha256.Sum256(data)
	p, err := NewEcho(x.s.Echo.LocalAddr().(*net.UDPAddr))
	if err != nil {
		t.Skip(err)
	}
	t.Cleanup(func() { p.Close() })
	x.w = &Watch{Prober: p, Waits: 200, System: 64, Image: data, SHA256: hex.EncodeToString(sum[:]), Name: "vr510.trx", Device: x.s.Boot.LocalAddr().(*net.UDPAddr),
		Transfer: tftp.Options{Timeout: 50 * time.Millisecond, Retries: 6}, For: 10 * time.Second, Settle: 10 * time.Second}
	x.w.Tell = func(e Event) {
		x.mu.Lock()
		defer x.mu.Unlock()
		x.events = append(x.events, e.Text)
	}
	if change != nil {
		change(x)
	}
	ctx, stop := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- x.s.Run(ctx) }()
	t.Cleanup(func() {
		stop()
		assert.NoError(t, <-done)
	})
	return x
}

func good(rev string) []byte {
	return demo.TRX(demo.UImage(5, 5, 2, "VR-510 "+rev+" stock 3.4.0", []byte(strings.Repeat("kernel", 3000))))
}

func TestBringsItBack(t *testing.T) {
	for name, change := range map[string]func(*trial){
		"plainly":                    nil,
		"with packets lost":          func(x *trial) { x.s.Loss = 10; x.s.WaitFor = 8 * time.Second; x.w.For = 30 * time.Second },
		"without any way to ping":    func(x *trial) { x.w.Prober = nil; x.w.Settle = 100 * time.Millisecond },
		"when it waits the 2nd time": func(x *trial) { x.s.WaitFor = 250 * time.Millisecond; x.s.OldFor = 300 * time.Millisecond },
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			data := good("v2")
			x := begin(t, data, change)
			answers, err := x.w.Run(context.Background())
			require.NoError(t, err, x.told()+"\n"+x.went())
			require.Eventually(t, func() bool { return x.s.State() == standin.Restarted }, 5*time.Second, 10*time.Millisecond, x.went)
			assert.Equal(t, data, x.s.Image())
			if x.w.Prober == nil {
				assert.False(t, answers, "nobody saw it")
				return
			}
			assert.True(t, answers)
			for _, want := range []string{"the old system answers, not the boot loader (time to live 64)", "the boot loader waits (time to live 200)", "sending vr510.trx", fmt.Sprintf("the image is over: %d bytes", len(data)), "the system answers again (time to live 64)"} {
				assert.Contains(t, x.told(), want)
			}
		})
	}
}

// A boot loader drops what it should not take, and the device is not back.
func TestDropsWhatItShould(t *testing.T) {
	flipped := good("v2")
	flipped[len(flipped)-1] ^= 1
	for name, c := range map[string]struct {
		data []byte
		why  string
	}{
		"another board":  {good("v1"), "another board"},
		"another format": {demo.UImage(5, 5, 2, "VR-510 v2 stock 3.4.0", []byte("kernel")), "it is of the format uimage"},
		"damaged":        {flipped, "a checksum is wrong"},
		"too large":      {demo.TRX(make([]byte, 1<<20)), "broke off"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			x := begin(t, c.data, func(x *trial) {
				x.s.WaitFor, x.w.Settle, x.w.For = 20*time.Second, 700*time.Millisecond, 1500*time.Millisecond
			})
			answers, err := x.w.Run(context.Background())
			assert.False(t, answers && err == nil, "it is not back")
			assert.Contains(t, x.went(), c.why)
			assert.Nil(t, x.s.Image())
		})
	}
}

func TestGivesUp(t *testing.T) {
	x := begin(t, good("v2"), func(x *trial) { x.s.OldFor, x.w.For = time.Minute, 600*time.Millisecond })
	_, err := x.w.Run(context.Background())
	assert.ErrorIs(t, err, ErrGivenUp)
	assert.NotContains(t, x.told(), "sending", "nothing is sent to the old system")
	assert.NotContains(t, x.went(), "receiving")

	x.w.Image = append([]byte("x"), x.w.Image...)
	_, err = x.w.Run(context.Background())
	assert.ErrorContains(t, err, "not the one that was checked; nothing was sent")

	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	x.w.Image = x.w.Image[1:]
	_, err = x.w.Run(ctx)
	assert.ErrorIs(t, err, context.Canceled)
}

// A boot loader that fetches gets the one image, and nobody else does.
func TestServes(t *testing.T) {
	listen, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	require.NoError(t, err)
	defer listen.Close()
	data := good("v2")
	x := begin(t, data, func(x *trial) {
		x.w.Serve, x.w.Listen, x.w.Prober, x.w.Settle = true, listen, nil, 10*time.Millisecond
		x.w.Transfer.BlockSize = 1428
	})
	got := make(chan error, 1)
	go func() {
		var b strings.Builder
		_, err := tftp.Get(context.Background(), listen.LocalAddr().(*net.UDPAddr), "other", &b, tftp.Options{Timeout: time.Second})
		if err == nil {
			got <- fmt.Errorf("another file was served")
			return
		}
		_, err = tftp.Get(context.Background(), listen.LocalAddr().(*net.UDPAddr), "vr510.trx", &b, tftp.Options{BlockSize: 512, Timeout: time.Second})
		if err == nil && b.String() != string(data) {
			err = fmt.Errorf("not the image")
		}
		got <- err
	}()
	_, err = x.w.Run(context.Background())
	require.NoError(t, err)
	require.NoError(t, <-got)
	assert.Contains(t, x.told(), `the device asks for "other", and only vr510.trx is offered`)

	x.w.Device = &net.UDPAddr{IP: net.IPv4(127, 0, 0, 9)}
	x.w.For = 500 * time.Millisecond
	go func() {
		_, err := tftp.Get(context.Background(), listen.LocalAddr().(*net.UDPAddr), "vr510.trx", &strings.Builder{}, tftp.Options{Timeout: time.Second})
		got <- err
	}()
	_, err = x.w.Run(context.Background())
	assert.ErrorIs(t, err, ErrGivenUp)
	assert.ErrorContains(t, <-got, "not for you")
}

func TestPing(t *testing.T) {
	p, err := NewPing(net.IPv4(127, 0, 0, 1))
	if err != nil {
		assert.ErrorContains(t, err, "ping")
		t.Skip(err)
	}
	defer p.Close()
	ttl, err := p.Probe(context.Background(), time.Second)
	require.NoError(t, err)
	assert.Positive(t, ttl)
}
