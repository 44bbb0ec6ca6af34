package tftp

import "time"

// leastWait is the shortest wait for an answer, however near the other side is.
const leastWait = 20 * time.Millisecond

// roundTrip measures how long the other side takes to answer, and says how long to wait for
// an answer (RFC 6298, section 2): the smoothed time and four times its deviation. By the
// rule of section 3, what was sent again is not measured.
type roundTrip struct {
	smoothed, deviation time.Duration
	measured            bool
	// A wait is never shorter than least, nor longer than most; once the round trip is
	// measured, not longer than first either, or than a slow line needs.
	wait, first, least, most time.Duration
	losses                   int // since something was measured
}

func newRoundTrip(first, least time.Duration) roundTrip {
	return roundTrip{wait: first, first: first, least: min(first, least), most: max(8*first, least)}
}

// measure takes one round trip. One that took very long was no round trip: something was
// lost in between, and asked for again.
func (r *roundTrip) measure(took time.Duration) {
	took = min(took, 2*r.first)
	if !r.measured {
		r.smoothed, r.deviation, r.measured = took, took/2, true
	} else {
		off := r.smoothed - took
		if off < 0 {
			off = -off
		}
		r.deviation = (3*r.deviation + off) / 4
		r.smoothed = (7*r.smoothed + took) / 8
	}
	r.losses = 0
	r.wait = min(max(r.smoothed+4*r.deviation, r.least), r.most)
}

// lost makes the next wait twice as long, but for the first loss behind a measure: one
// packet in twenty is lost on a bad line, and says nothing of its length.
func (r *roundTrip) lost() {
	most := r.most
	if r.measured {
		most = min(most, max(r.first, 2*(r.smoothed+4*r.deviation)))
	}
	if r.losses++; r.losses > 1 || !r.measured {
		r.wait = max(r.wait, min(2*r.wait, most))
	}
}
