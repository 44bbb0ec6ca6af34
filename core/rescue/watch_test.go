package rescue

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/image/format"
	"fitcheck/core/rulebook"
	"fitcheck/core/standin"
	"fitcheck/core/tftp"
	"fitcheck/core/tftp/tftptest"
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
    afterwards: {signs: {ping_ttl: 128}}
    transfer: {protocol: tftp, within: 5s}
    accepts: {formats: [trx], largest: 1MiB, wrapped: false}
`

// trial is a stand-in and a watch on it.
type trial struct {
	n      *tftptest.Network
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

// prober asks the stand-in itself, on a clock of the test's own.
type prober struct{ s *standin.StandIn }

func (p prober) Close() error { return nil }

func (p prober) Probe(ctx context.Context, wait time.Duration) (int, error) {
	if ttl := p.s.TTL(); ttl > 0 {
		return ttl, nil
	}
	return 0, pause(ctx, wait)
}

// begin runs a stand-in on a network in memory until the test's bubble ends.
func begin(t *testing.T, data []byte, change func(*trial)) *trial {
	rb, err := rulebook.Read("r.yaml", []byte(rules))
	require.NoError(t, err)
	x := &trial{n: &tftptest.Network{}}
	device, host := tftptest.Host(1), tftptest.Host(2)
	x.s = &standin.StandIn{Rule: &rb.Recovery[0], Rules: rb, Model: "VR-510", Board: "v2", Formats: format.Builtin(), Boot: x.n.Listen(device, 69), Open: x.n.Opener(device),
		OldFor: 4 * time.Second, DeadFor: time.Second, WaitFor: 15 * time.Second, WriteFor: 3 * time.Second}
	x.s.Tell = func(state standin.State, text string) {
		x.mu.Lock()
		defer x.mu.Unlock()
		x.states = append(x.states, string(state)+": "+text)
	}
	sum := sha256.Sum256(data)
	x.w = &Watch{Prober: prober{x.s}, Waits: 200, Old: 64, New: 128, Image: data, SHA256: hex.EncodeToString(sum[:]), Name: "vr510.trx", Device: x.s.Boot.LocalAddr().(*net.UDPAddr),
		Transfer: tftp.Options{Timeout: 500 * time.Millisecond, Retries: 6, Listen: x.n.Opener(host)}, For: time.Minute, Settle: time.Minute}
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
		time.Sleep(time.Hour)
	})
	return x
}

func good(rev string) []byte {
	return demo.TRX(demo.UImage(5, 5, 2, "VR-510 "+rev+" stock 3.4.0", []byte("\x00"+strings.Repeat("kernel", 3000))))
}

func TestBringsItBack(t *testing.T) {
	for name, change := range map[string]func(*trial){
		"plainly":                    nil,
		"with packets lost":          func(x *trial) { x.n.Spoil = tftptest.Lossy(10, 3) },
		"without any way to ping":    func(x *trial) { x.w.Prober = nil },
		"when it waits the 2nd time": func(x *trial) { x.s.WaitFor = 10 * time.Millisecond; x.s.OldFor = 700 * time.Millisecond },
		"and nobody can tell":        func(x *trial) { x.w.New = 0; x.s.Rule.Afterwards.Signs.PingTTL = 0 },
		"and the old one is alike":   func(x *trial) { x.w.New = 64; x.s.Rule.Afterwards.Signs.PingTTL = 64 },
		"and it is seen to be alike": func(x *trial) { x.w.Old, x.w.New = 0, 64; x.s.Rule.Afterwards.Signs.PingTTL = 64 },
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				data := good("v2")
				x := begin(t, data, change)
				ending, err := x.w.Run(context.Background())
				if name == "when it waits the 2nd time" && errors.Is(err, ErrGivenUp) {
					return // it never waited long enough
				}
				require.NoError(t, err, x.told()+"\n"+x.went())
				time.Sleep(time.Minute)
				require.Equal(t, standin.Restarted, x.s.State(), x.went())
				assert.Equal(t, data, x.s.Image())
				switch name {
				case "without any way to ping":
					assert.Equal(t, NotSeen, ending)
					return
				case "and nobody can tell", "and the old one is alike", "and it is seen to be alike":
					assert.Equal(t, Answers, ending, "something answers, and that is all that can be said: "+x.told())
					return
				}
				assert.Equal(t, IsBack, ending)
				for _, want := range []string{"the old system answers, not the boot loader (time to live 64)", "the boot loader waits (time to live 200)", "sending vr510.trx", fmt.Sprintf("the image is over: %d bytes", len(data)), "the new system answers (time to live 128)"} {
					assert.Contains(t, x.told(), want)
				}
			})
		})
	}
}

// A boot loader drops what it should not take; then the device is never said to
// be back, whatever answers.
func TestDropsWhatItShould(t *testing.T) {
	flipped := good("v2")
	flipped[len(flipped)-1] ^= 1
	for name, c := range map[string]struct {
		data   []byte
		why    string
		waits  time.Duration
		ending Ending
	}{
		"another board":            {good("v1"), "another board", time.Hour, ThrownAway},
		"another format":           {demo.UImage(5, 5, 2, "VR-510 v2 stock 3.4.0", []byte("kernel")), "it is of the format uimage", time.Hour, ThrownAway},
		"damaged":                  {flipped, "a checksum is wrong", time.Hour, ThrownAway},
		"and starts the old again": {flipped, "a checksum is wrong", 20 * time.Second, ThrownAway},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				x := begin(t, c.data, func(x *trial) { x.s.WaitFor = c.waits })
				ending, err := x.w.Run(context.Background())
				require.NoError(t, err)
				assert.Equal(t, c.ending, ending, x.told())
				assert.Contains(t, x.went(), c.why)
				assert.Nil(t, x.s.Image())
			})
		})
	}
	synctest.Test(t, func(t *testing.T) {
		x := begin(t, demo.TRX(make([]byte, 1<<20)), nil)
		_, err := x.w.Run(context.Background())
		assert.ErrorIs(t, err, ErrGivenUp, "what is too large is never over")
		assert.Nil(t, x.s.Image())
	})
}

func TestGivesUp(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		x := begin(t, good("v2"), func(x *trial) { x.s.OldFor = time.Hour })
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
	})
}

// A boot loader that fetches gets the one image, and nobody else does.
func TestServes(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		data := good("v2")
		x := begin(t, data, func(x *trial) {
			x.w.Serve, x.w.Listen, x.w.Prober, x.w.Settle = true, x.n.Listen(tftptest.Host(2), 69), nil, time.Second
			x.w.Transfer.BlockSize = 1428
		})
		server := x.w.Listen.LocalAddr().(*net.UDPAddr)
		get := func(name string, from byte) (string, error) {
			var b strings.Builder
			_, err := tftp.Get(context.Background(), server, name, &b, tftp.Options{BlockSize: 512, Timeout: time.Second, Listen: x.n.Opener(tftptest.Host(from))})
			return b.String(), err
		}
		done := make(chan error, 1)
		go func() {
			_, err := x.w.Run(context.Background())
			done <- err
		}()
		_, err := get("vr510.trx", 9)
		assert.ErrorContains(t, err, "not for you")
		_, err = get("other", 1)
		assert.Error(t, err, "another file was served")
		got, err := get("vr510.trx", 1)
		require.NoError(t, err)
		assert.Equal(t, string(data), got)
		require.NoError(t, <-done)
		assert.Contains(t, x.told(), `the device asks for "other", and only vr510.trx is offered`)
	})
}

func TestPing(t *testing.T) {
	p, err := NewPing(net.IPv4(127, 0, 0, 1))
	if err != nil {
		assert.ErrorContains(t, err, "ping")
		t.Skip(err)
	}
	defer p.Close()
	ttl, err := p.Probe(context.Background(), time.Minute)
	require.NoError(t, err)
	assert.Positive(t, ttl)
}

// script answers probes by what has passed since it began: -1 is silence.
type script struct {
	began time.Time
	at    func(passed time.Duration) int
}

func (s *script) Close() error { return nil }

func (s *script) Probe(ctx context.Context, wait time.Duration) (int, error) {
	if ttl := s.at(time.Since(s.began)); ttl >= 0 {
		return ttl, nil
	}
	if err := pause(ctx, wait); err != nil {
		return 0, err
	}
	return 0, errors.New("no answer")
}

// How what follows a transfer is taken: by whether the device fell silent, and by what answers then.
func TestSettles(t *testing.T) {
	between := func(from, to time.Duration, then int) func(time.Duration) int {
		return func(passed time.Duration) int {
			switch {
			case passed < from:
				return 200
			case passed < to:
				return -1
			}
			return then
		}
	}
	for what, c := range map[string]struct {
		at      func(time.Duration) int
		newTTL  int
		want    Ending
		tells   string
		earlier time.Duration // than the time that there is; 0 when all of it is waited for
	}{
		"the new system answers":            {between(2*time.Second, 8*time.Second, 128), 128, IsBack, "the new system answers (time to live 128)", 20 * time.Second},
		"the boot loader answers again":     {between(2*time.Second, 8*time.Second, 200), 128, ThrownAway, "it did not keep the image", 20 * time.Second},
		"it never falls silent":             {between(time.Hour, time.Hour, 0), 128, ThrownAway, "it never fell silent", 0},
		"it stays silent":                   {between(2*time.Second, time.Hour, 0), 128, NotSeen, "", 0},
		"something else answers":            {between(2*time.Second, 8*time.Second, 64), 128, Answers, "", 0},
		"it answers, and nothing tells new": {between(2*time.Second, 8*time.Second, 64), 0, Answers, "nothing tells from here what it runs", 20 * time.Second},
		"it answers, and is silent again": {func(passed time.Duration) int {
			if passed > 10*time.Second && passed < 12*time.Second {
				return 64
			}
			return -1
		}, 128, NotSeen, "", 0},
	} {
		synctest.Test(t, func(t *testing.T) {
			var told []string
			w := &Watch{Prober: &script{time.Now(), c.at}, Waits: 200, Old: 64, New: c.newTTL, over: true, Settle: time.Minute, Tell: func(e Event) { told = append(told, e.Text) }}
			began := time.Now()
			got, err := w.settle(context.Background())
			require.NoError(t, err, what)
			assert.Equal(t, c.want, got, what)
			assert.Contains(t, strings.Join(told, "\n"), c.tells, what)
			if took := time.Since(began); c.earlier > 0 {
				assert.Less(t, took, c.earlier, what)
			} else {
				assert.GreaterOrEqual(t, took, time.Minute, what)
			}
			ctx, stop := context.WithCancel(context.Background())
			stop()
			_, err = w.settle(ctx)
			assert.ErrorIs(t, err, context.Canceled, what)
			w.Prober = nil
			got, err = w.settle(context.Background())
			require.NoError(t, err)
			assert.Equal(t, NotSeen, got)
		})
	}
}

// What answers is named by its time to live: the boot loader's, the old system's, the new one's; the new system is told
// apart only once the image is over, and only where nothing answered like it before.
func TestWhatAnswersIsNamed(t *testing.T) {
	for _, c := range []struct {
		waits, old, new int
		over, alike     bool
		ttl             int
		want            string
	}{
		{255, 64, 128, false, false, 255, "the boot loader waits (time to live 255)"},
		{255, 64, 128, true, false, 255, "the boot loader waits (time to live 255)"},
		{255, 64, 128, false, false, 64, "the old system answers, not the boot loader (time to live 64)"},
		{255, 64, 128, true, false, 64, "it answers as the old system did (time to live 64)"},
		{255, 64, 128, false, false, 128, "what answers is not the boot loader, and answers as the new system is to (time to live 128)"},
		{255, 64, 128, true, false, 128, "the new system answers (time to live 128)"},
		{255, 64, 128, true, true, 128, "something answers that is not known (time to live 128)"},
		{255, 64, 64, true, false, 64, "it answers as the old system did (time to live 64)"},
		{255, 64, 64, false, false, 64, "the old system answers, not the boot loader (time to live 64)"},
		{255, 64, 128, true, false, 32, "something answers that is not known (time to live 32)"},
		{0, 0, 0, false, false, 64, "something answers that is not known (time to live 64)"},
		{0, 0, 0, true, false, 0, "something answers"},
		{255, 0, 64, true, false, 64, "the new system answers (time to live 64)"},
		{0, 64, 0, false, false, 64, "the old system answers, not the boot loader (time to live 64)"},
		{1, 2, 3, false, false, 1, "the boot loader waits (time to live 1)"},
		{3, 1, 2, false, false, 1, "the old system answers, not the boot loader (time to live 1)"},
		{3, 1, 2, true, false, 1, "it answers as the old system did (time to live 1)"},
		{3, 2, 1, true, false, 1, "the new system answers (time to live 1)"},
		{3, 2, 1, false, false, 1, "what answers is not the boot loader, and answers as the new system is to (time to live 1)"},
		{3, 2, 0, false, false, 1, "something answers that is not known (time to live 1)"},
	} {
		w := &Watch{Waits: c.waits, Old: c.old, New: c.new, over: c.over, alike: c.alike}
		assert.Equal(t, c.want, w.seen(c.ttl, nil), "%+v", c)
		assert.Equal(t, c.alike || strings.HasPrefix(c.want, "what answers"), w.alike, "%+v", c)
		assert.Equal(t, "nothing answers", w.seen(c.ttl, errors.New("no answer")))
	}
}
