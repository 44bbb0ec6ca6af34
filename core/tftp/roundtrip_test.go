package tftp

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

const ms = time.Millisecond

// The wait follows the measured round trip as RFC 6298 computes it, and is never too short.
func TestRoundTripIsMeasured(t *testing.T) {
	r := newRoundTrip(time.Second, leastWait)
	assert.Equal(t, time.Second, r.wait, "nothing is known yet")
	r.measure(100 * ms)
	assert.Equal(t, 300*ms, r.wait, "the first is smoothed to itself, and deviates by half")
	r.measure(100 * ms)
	assert.Equal(t, 100*ms+4*37500*time.Microsecond, r.wait)
	r.measure(180 * ms)
	assert.Equal(t, 110*ms, r.smoothed)
	assert.Equal(t, (3*37500*time.Microsecond+80*ms)/4, r.deviation)
	r.measure(20 * ms)
	assert.Equal(t, (7*110*ms+20*ms)/8, r.smoothed)
	assert.Equal(t, r.smoothed+4*r.deviation, r.wait)

	near := newRoundTrip(time.Second, leastWait)
	for range 50 {
		near.measure(100 * time.Microsecond)
	}
	assert.Equal(t, leastWait, near.wait)
	far := newRoundTrip(time.Second, leastWait)
	far.measure(time.Hour)
	assert.Equal(t, 2*time.Second, far.smoothed, "something was lost in between")
	assert.Equal(t, 6*time.Second, far.wait)
	far.measure(time.Hour)
	far.measure(time.Minute)
	assert.LessOrEqual(t, far.wait, 8*time.Second)
	assert.Equal(t, 5*ms, newRoundTrip(5*ms, leastWait).least, "who waits less from the start is not made to wait longer")
}

// One loss behind a measure does not double the wait; further ones do, up to a bound; a measure begins anew.
func TestRoundTripWithLosses(t *testing.T) {
	r := newRoundTrip(time.Second, leastWait)
	for _, want := range []time.Duration{2 * time.Second, 4 * time.Second, 8 * time.Second, 8 * time.Second} {
		r.lost()
		assert.Equal(t, want, r.wait, "nothing was measured")
	}
	r.measure(100 * ms)
	assert.Equal(t, 300*ms, r.wait)
	for _, want := range []time.Duration{300 * ms, 600 * ms, time.Second, time.Second} {
		r.lost()
		assert.Equal(t, want, r.wait)
	}
	r.measure(100 * ms)
	wait := r.wait
	r.lost()
	assert.Equal(t, wait, r.wait, "the first loss behind a measure")
	r.lost()
	assert.Equal(t, 2*wait, r.wait)

	slow := newRoundTrip(time.Second, leastWait)
	slow.measure(2 * time.Second)
	for range 5 {
		slow.lost()
	}
	assert.Equal(t, 8*time.Second, slow.wait, "a slow line may need longer than the first wait")
}
