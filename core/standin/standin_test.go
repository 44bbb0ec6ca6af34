package standin

import (
	"bytes"
	"context"
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
	"fitcheck/core/tftp"
	"fitcheck/core/tftp/tftptest"
	"fitcheck/demo"
)

const rules = "kind: rulebook\ntitle: t\nmaker: m\nmodels: {R1: {also: [RR1], families: [f], revisions: {v1: {arch: mips}, v2: {arch: mips}}}, R2: {families: [f]}}\nfamilies: {f: {components: {main: {}}}}\nrecovery: [{models: [R1], signs: {ping_ttl: 99}, accepts: %s}]\n"

func rulesWith(t *testing.T, accepts string) *rulebook.Rulebook {
	rb, err := rulebook.Read("r.yaml", fmt.Appendf(nil, rules, accepts))
	require.NoError(t, err)
	return rb
}

// begin runs a stand-in on a network in memory until the test's bubble ends.
func begin(t *testing.T, accepts string, change func(*StandIn)) (*StandIn, *tftptest.Network, func() []string) {
	rb := rulesWith(t, accepts)
	n := &tftptest.Network{}
	var mu sync.Mutex
	var states []string
	s := &StandIn{Rule: &rb.Recovery[0], Rules: rb, Model: "R1", Formats: format.Builtin(), Boot: n.Listen(tftptest.Host(1), 69), Open: n.Opener(tftptest.Host(1)), OldFor: 2 * time.Second, DeadFor: time.Second, WaitFor: 20 * time.Second, WriteFor: time.Second,
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
		time.Sleep(time.Hour)
	})
	return s, n, func() []string {
		mu.Lock()
		defer mu.Unlock()
		return append([]string(nil), states...)
	}
}

func put(s *StandIn, n *tftptest.Network, data []byte) error {
	return tftp.Put(context.Background(), s.Boot.LocalAddr().(*net.UDPAddr), "x", bytes.NewReader(data), int64(len(data)), tftp.Options{Timeout: 100 * time.Millisecond, Retries: 2, Listen: n.Opener(tftptest.Host(2))})
}

// Left alone, it goes round: old system, silence, boot loader, old system.
func TestGoesRound(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		_, _, states := begin(t, "{formats: [trx]}", nil)
		time.Sleep(24 * time.Second)
		var names []string
		for _, s := range states() {
			name, _, _ := strings.Cut(s, ":")
			names = append(names, name)
		}
		assert.Equal(t, []string{string(Old), string(Dead), string(Waiting), string(Old)}, names)
	})
}

func TestTakesOnlyWhileItWaits(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		good := demo.TRX(demo.UImage(5, 5, 2, "R1 stock 1.0", []byte("kernel")))
		s, n, states := begin(t, "{formats: [trx]}", nil)
		assert.ErrorIs(t, put(s, n, good), tftp.ErrTimeout, "the old system hears nothing")
		time.Sleep(5 * time.Second)
		require.Equal(t, Waiting, s.State())
		require.NoError(t, put(s, n, demo.TRX(demo.UImage(5, 5, 2, "R2 stock 1.0", []byte("kernel")))), "it is taken, and dropped without a word")
		synctest.Wait()
		assert.Contains(t, strings.Join(states(), "\n"), `dropped: it is for "R2 stock 1.0"`)
		require.NoError(t, put(s, n, good))
		time.Sleep(5 * time.Second)
		require.Equal(t, Restarted, s.State())
		assert.Equal(t, good, s.Image())
		assert.ErrorIs(t, put(s, n, good), tftp.ErrTimeout, "it runs, and takes no more")
	})
}

func TestTimeToLive(t *testing.T) {
	s := &StandIn{Rule: &rulebook.Recovery{Signs: rulebook.Signs{PingTTL: 99}, NotYet: rulebook.Signs{PingTTL: 33}}}
	for state, want := range map[State]int{Old: 33, Restarted: 33, Waiting: 99, Receiving: 99, Dead: 0, Writing: 0} {
		s.state = state
		assert.Equal(t, want, s.TTL(), state)
	}
	s.Rule = &rulebook.Recovery{}
	s.state = Waiting
	assert.NotEqual(t, 0, s.TTL())
	waits := s.TTL()
	s.state = Old
	assert.NotEqual(t, waits, s.TTL(), "the two can be told apart without a rule, too")
}

func TestRefuses(t *testing.T) {
	s := &StandIn{Model: "R1", Board: "v2", Formats: format.Builtin()}
	for name, c := range map[string]struct {
		accepts string
		data    []byte
		why     string
	}{
		"the right one":           {"{formats: [uimage]}", demo.UImage(5, 5, 2, "R1 v2 1.0", []byte("kernel")), ""},
		"another spelling":        {"{formats: [uimage]}", demo.UImage(5, 5, 2, "RR1 v2 1.0", []byte("kernel")), ""},
		"names no hardware":       {"{formats: [uimage]}", demo.UImage(5, 5, 2, "stock 1.0", []byte("kernel")), ""},
		"any format":              {"{}", []byte("anything at all, of no format"), ""},
		"no title":                {"{formats: [trx]}", demo.TRX([]byte("kernel without a header")), ""},
		"another format":          {"{formats: [trx]}", demo.UImage(5, 5, 2, "R1 v2 1.0", []byte("kernel")), "it is of the format uimage"},
		"wrapped, and must not":   {"{formats: [uimage], wrapped: false}", demo.TRX(demo.UImage(5, 5, 2, "R1 v2 1.0", []byte("kernel"))), "it is of the format trx"},
		"wrapped, as it must":     {"{formats: [uimage], wrapped: true}", demo.TRX(demo.UImage(5, 5, 2, "R1 v2 1.0", []byte("kernel"))), ""},
		"wrapped, something else": {"{formats: [uimage], wrapped: true}", demo.TRX(bytes.Repeat([]byte("tram"), 100)), "it is of the format trx"},
		"wrapped, of any format":  {"{wrapped: true}", demo.TRX(demo.UImage(5, 5, 2, "R1 v2 1.0", []byte("kernel"))), ""},
		"bare, and must not":      {"{formats: [uimage], wrapped: true}", demo.UImage(5, 5, 2, "R1 v2 1.0", []byte("kernel")), "it is of the format uimage"},
		"another board":           {"{formats: [uimage]}", demo.UImage(5, 5, 2, "R1 v1 1.0", []byte("kernel")), "another board"},
		"too large":               {"{largest: 64}", demo.UImage(5, 5, 2, "R1 v2 1.0", []byte("kernel")), "no more than 64"},
		"text":                    {"{formats: [uimage]}", []byte("<html>log in again</html>"), "it is of the format html"},
	} {
		s.Rules = rulesWith(t, c.accepts)
		s.Rule = &s.Rules.Recovery[0]
		got := s.Refuses(c.data)
		if c.why == "" {
			assert.Empty(t, got, name)
		} else {
			assert.Contains(t, got, c.why, name)
		}
	}
}
