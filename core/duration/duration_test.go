package duration

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestText(t *testing.T) {
	for d, want := range map[time.Duration]string{
		0: "0 s", 20 * time.Second: "20 s", 90 * time.Second: "90 s", 60 * time.Second: "1 min", 119 * time.Second: "119 s", 2 * time.Minute: "2 min",
		121 * time.Second: "2 min 1 s", 3599 * time.Second: "59 min 59 s", 3661 * time.Second: "1 h 1 min", time.Millisecond: "1 ms", time.Microsecond: "1 ms", 999 * time.Millisecond: "999 ms", time.Second: "1 s",
		1499 * time.Millisecond: "1 s", 1500 * time.Millisecond: "2 s", -time.Millisecond: "-1 ms", 5399 * time.Second: "1 h 29 min",
		150 * time.Second: "2 min 30 s", 6 * time.Minute: "6 min", 10 * time.Minute: "10 min", 70 * time.Minute: "1 h 10 min", 60 * time.Minute: "1 h", 120 * time.Minute: "2 h",
		25 * time.Hour: "25 h", 250 * time.Millisecond: "250 ms", -20 * time.Second: "-20 s", 19999 * time.Millisecond: "20 s",
	} {
		assert.Equal(t, want, Text(d), d)
	}
	assert.Equal(t, "12 min", Minutes(12))
	assert.Equal(t, "10–20 min", Range(10*time.Minute, 20*time.Minute))
	assert.Equal(t, "10 min", Range(10*time.Minute, 10*time.Minute))
	assert.Equal(t, "90 s–6 min", Range(90*time.Second, 6*time.Minute))
	assert.Equal(t, "50 min–1 h 10 min", Range(50*time.Minute, 70*time.Minute))
}
