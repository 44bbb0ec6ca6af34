// Package duration writes stretches of time the way people say them: "20 s",
// "90 s", "6 min", "10–20 min", "1 h 10 min".
package duration

import (
	"fmt"
	"strings"
	"time"
)

// Text writes a stretch of time: in seconds up to two minutes, in minutes up to
// an hour, in hours and minutes from there on. What is left over is
// told where it matters: "2 min 30 s".
func Text(d time.Duration) string {
	if d < 0 {
		return "-" + Text(-d)
	}
	if d < time.Second && d > 0 {
		return fmt.Sprintf("%d ms", max(1, d.Milliseconds()))
	}
	s := int64((d + time.Second/2) / time.Second)
	switch {
	case s < 120 && s%60 != 0, s == 0:
		return fmt.Sprintf("%d s", s)
	case s < 60*60:
		text := fmt.Sprintf("%d min", s/60)
		if rest := s % 60; rest != 0 {
			text += fmt.Sprintf(" %d s", rest)
		}
		return text
	}
	text := fmt.Sprintf("%d h", s/3600)
	if m := (s % 3600) / 60; m != 0 {
		text += fmt.Sprintf(" %d min", m)
	}
	return text
}

// Minutes writes a number of minutes.
func Minutes(n int) string { return Text(time.Duration(n) * time.Minute) }

// Range writes from one stretch to another: "10–20 min".
func Range(from, to time.Duration) string {
	a, b := Text(from), Text(to)
	if a == b {
		return a
	}
	// One unit is enough where both have only that one.
	na, ua, ok1 := strings.Cut(a, " ")
	nb, ub, ok2 := strings.Cut(b, " ")
	if ok1 && ok2 && ua == ub && !strings.Contains(ua, " ") {
		return na + "–" + nb + " " + ua
	}
	return a + "–" + b
}
