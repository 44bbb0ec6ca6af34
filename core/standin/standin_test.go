package standin

import (
	"bytes"
	"context"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/image"
	"fitcheck/core/rulebook"
	"fitcheck/core/tftp"
	"fitcheck/demo"
)

func begin(t *testing.T, accepts string, change func(*StandIn)) (*StandIn, func() []string) {
	rb, err := rulebook.Read("r.yaml", []byte("kind: rulebook\ntitle: t\nmaker: m\nmodels: {R1: {families: [f]}}\nfamilies: {f: {components: {main: {}}}}\nrecovery: [{models: [R1], signs: {ping_ttl: 99}, accepts: "+accepts+"}]\n"))
	require.NoError(t, err)
	listen := func() *net.UDPConn {
		c, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
		require.NoError(t, err)
		t.Cleanup(func() { c.Close() })
		return c
	}
	var mu sync.Mutex
	var states []string
	s := &StandIn{Rule: &rb.Recovery[0], Model: "R1", Formats: image.Builtin(), Echo: listen(), Boot: listen(), OldFor: 200 * time.Millisecond, DeadFor: 100 * time.Millisecond, WaitFor: 400 * time.Millisecond, WriteFor: 100 * time.Millisecond,
		Tell: func(state State, text string) {
			mu.Lock()
			defer mu.Unlock()
			states = append(states, string(state)+": "+text)
		}}
	if change != nil {
		change(s)
	}
	ctx, stop := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- s.Run(ctx) }()
	t.Cleanup(func() {
		stop()
		assert.NoError(t, <-done)
	})
	return s, func() []string {
		mu.Lock()
		defer mu.Unlock()
		return append([]string(nil), states...)
	}
}

func (s *StandIn) put(data []byte) error {
	return tftp.Put(context.Background(), s.Boot.LocalAddr().(*net.UDPAddr), "x", bytes.NewReader(data), int64(len(data)), tftp.Options{Timeout: 30 * time.Millisecond, Retries: 3})
}

// Left alone, it goes round: old system, silence, boot loader, old system.
func TestGoesRound(t *testing.T) {
	_, states := begin(t, "{formats: [trx]}", nil)
	require.Eventually(t, func() bool { return len(states()) >= 5 }, 5*time.Second, 10*time.Millisecond)
	var names []string
	for _, s := range states()[:5] {
		name, _, _ := strings.Cut(s, ":")
		names = append(names, name)
	}
	assert.Equal(t, []string{string(Old), string(Dead), string(Waiting), string(Old), string(Dead)}, names)
}

func TestTakesOnlyWhileItWaits(t *testing.T) {
	good := demo.TRX(demo.UImage(5, 5, 2, "R1 stock 1.0", []byte("kernel")))
	s, states := begin(t, "{formats: [trx]}", func(s *StandIn) { s.OldFor = 600 * time.Millisecond; s.WaitFor = 5 * time.Second })
	assert.ErrorIs(t, s.put(good), tftp.ErrTimeout, "the old system hears nothing")
	require.Eventually(t, func() bool { return s.State() == Waiting }, 5*time.Second, 5*time.Millisecond)
	require.NoError(t, s.put(demo.TRX(demo.UImage(5, 5, 2, "R2 stock 1.0", []byte("kernel")))), "it is taken, and dropped without a word")
	require.Eventually(t, func() bool {
		return strings.Contains(strings.Join(states(), "\n"), `dropped: it is for "R2 stock 1.0"`)
	}, 5*time.Second, 5*time.Millisecond)
	require.NoError(t, s.put(good))
	require.Eventually(t, func() bool { return s.State() == Restarted }, 5*time.Second, 5*time.Millisecond)
	assert.Equal(t, good, s.Image())
	assert.ErrorIs(t, s.put(good), tftp.ErrTimeout, "it runs, and takes no more")
}

func TestTimeToLive(t *testing.T) {
	s := &StandIn{Rule: &rulebook.Recovery{Signs: rulebook.Signs{PingTTL: 99}, NotYet: rulebook.Signs{PingTTL: 33}}}
	for state, want := range map[State]int{Old: 33, Restarted: 33, Waiting: 99, Receiving: 99, Dead: 0, Writing: 0} {
		s.state = state
		assert.Equal(t, want, s.ttl(), state)
	}
	s.Rule = &rulebook.Recovery{}
	s.state = Waiting
	assert.NotEqual(t, 0, s.ttl())
	waits := s.ttl()
	s.state = Old
	assert.NotEqual(t, waits, s.ttl(), "the two can be told apart without a rule, too")
}

func TestRefuses(t *testing.T) {
	rb := func(accepts string) *rulebook.Recovery {
		r, err := rulebook.Read("r.yaml", []byte("kind: rulebook\ntitle: t\nmaker: m\nmodels: {R1: {families: [f]}}\nfamilies: {f: {components: {main: {}}}}\nrecovery: [{accepts: "+accepts+"}]\n"))
		require.NoError(t, err)
		return &r.Recovery[0]
	}
	s := &StandIn{Model: "R1", Board: "v2", Formats: image.Builtin()}
	for name, c := range map[string]struct {
		accepts string
		data    []byte
		why     string
	}{
		"the right one":  {"{formats: [uimage]}", demo.UImage(5, 5, 2, "R1 v2 1.0", []byte("kernel")), ""},
		"any format":     {"{}", []byte("anything at all, of no format"), ""},
		"no title":       {"{formats: [trx]}", demo.TRX([]byte("kernel without a header")), ""},
		"another format": {"{formats: [trx]}", demo.UImage(5, 5, 2, "R1 v2 1.0", []byte("kernel")), "it is of the format uimage"},
		"another board":  {"{formats: [uimage]}", demo.UImage(5, 5, 2, "R1 v1 1.0", []byte("kernel")), "another board"},
		"text":           {"{formats: [uimage]}", []byte("<html>log in again</html>"), "it is of the format html"},
	} {
		s.Rule = rb(c.accepts)
		got := s.refuses(c.data)
		if c.why == "" {
			assert.Empty(t, got, name)
		} else {
			assert.Contains(t, got, c.why, name)
		}
	}
}
