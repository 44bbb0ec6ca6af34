package path

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"fitcheck/core/device"
	"fitcheck/core/rulebook"
)

// bigRulebook has so many releases in some lines, each line to be left by way of
// its last third only, ten generations of boot loaders that lines need, and so
// many rules.
func bigRulebook(releases, lines, rules int) string {
	r := rand.New(rand.NewPCG(1, 1))
	var b strings.Builder
	b.WriteString("kind: rulebook\ntitle: t\nmaker: m\nmodels: {M: {families: [f]}}\nfamilies:\n  f: {components: {boot: {optional: true}, main: {}}}\n")
	b.WriteString("versions:\n  default: {pattern: '^(?P<a>\\d+)\\.(?P<b>\\d+)(?P<fix>[a-z])?$', order: [a, b, fix]}\nsources: {RN: notes}\nreleases:\n")
	size := releases / lines
	line := func(i int) int { return i / size }
	boot := func(line int) int { return line * 10 / lines }
	for i := range releases {
		fmt.Fprintf(&b, "  - {version: %d.%d, families: [f], minutes: {install: %d, outage: %d}, brings: {boot: '%d.0'}", line(i)+1, i%size, 5+r.IntN(9), 1+r.IntN(5), boot(line(i))+1)
		if line(i) > 0 {
			fmt.Fprintf(&b, ", needs: [{component: boot, within: '>=%d.0', source: RN}]", boot(line(i)))
		}
		if r.IntN(20) == 0 {
			b.WriteString(", withdrawn: bad, source: RN")
		}
		b.WriteString("}\n")
	}
	b.WriteString("hops:\n  upward: open\n  downward: closed\n  rules:\n")
	for i := range rules {
		at := 1 + i%lines
		switch i / lines {
		case 0: // two lines up at most
			fmt.Fprintf(&b, "    - {from: '<%d.0', to: '>=%d.0', allow: false, source: RN}\n", at, at+2)
		case 1: // and from the last third only
			fmt.Fprintf(&b, "    - {from: '<%d.%d', to: '>=%d.0', allow: false, source: RN}\n", at, size*2/3, at+1)
		default: // single moves that reset the configuration
			x := r.IntN(size)
			fmt.Fprintf(&b, "    - {from: '=%d.%d', to: '>=%d.%d <%d.0', allow: true, resets_config: true, source: RN}\n", at, x, at, min(x+1, size-1), at+1)
		}
	}
	return b.String()
}

func big(t testing.TB, releases, lines, rules int) Request {
	rb, err := rulebook.Read("r.yaml", []byte(bigRulebook(releases, lines, rules)))
	require.NoError(t, err)
	d, err := device.Read("d.yaml", []byte("kind: device\nname: d\nmodel: M\ninstalled: {main: '1.0', boot: '1.0'}\n"))
	require.NoError(t, err)
	return Request{Device: d, Rules: func(string) *rulebook.Rulebook { return rb }, Goal: Goal{Version: "latest"}}
}

// BenchmarkPath finds the way to the newest release, and the way back.
func BenchmarkPath(b *testing.B) {
	for _, n := range []struct{ releases, lines, rules int }{{100, 10, 10}, {1000, 10, 100}, {10000, 10, 1000}, {10000, 100, 1000}, {30000, 10, 3000}} {
		b.Run(fmt.Sprintf("%d-releases-%d-rules-%d-lines", n.releases, n.rules, n.lines), func(b *testing.B) {
			q := big(b, n.releases, n.lines, n.rules)
			b.ReportAllocs()
			var hops, states int
			for b.Loop() {
				res, err := Find(q)
				require.NoError(b, err)
				require.True(b, res.Found(), res.Plans[0].Blocked)
				hops, states = len(res.Plans[0].Hops), res.Plans[0].States
			}
			b.ReportMetric(float64(hops), "hops")
			b.ReportMetric(float64(states), "states")
		})
	}
}

// BenchmarkNoPath is the same when nothing leads there: every state is seen,
// and what stands in the way is told.
func BenchmarkNoPath(b *testing.B) {
	for _, n := range []int{1000, 10000} {
		b.Run(fmt.Sprintf("%d-releases-%d-rules", n, n/10), func(b *testing.B) {
			q := big(b, n, n/100, n/10)
			q.Goal.Version = fmt.Sprintf("%d.0", n/100)
			for v := range 100 {
				q.Avoid = append(q.Avoid, fmt.Sprintf("%d.%d", n/100-1, v))
			}
			for b.Loop() {
				res, err := Find(q)
				require.NoError(b, err)
				require.False(b, res.Found())
				require.NotEmpty(b, res.Plans[0].Blocked)
			}
		})
	}
}
