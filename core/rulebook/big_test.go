package rulebook

import (
	"fmt"
	"strings"
	"testing"
)

// bigBook is a rulebook of many releases and rules.
func bigBook(releases, rules int) []byte {
	var b strings.Builder
	b.WriteString("kind: rulebook\ntitle: big\nsources: {S: notes}\nmodels:\n  QM-8T: {families: [t]}\nfamilies:\n  t: {components: {boot: {optional: true}, main: {}}}\nversions:\n  default: {pattern: '^(?P<a>\\d+)\\.(?P<b>\\d+)\\.(?P<c>\\d+)$', order: [a, b, c]}\nreleases:\n")
	for n := range releases {
		fmt.Fprintf(&b, "  - {version: %d.%d.%d, families: [t], brings: {main: %[1]d.%d.%d, boot: 1.%[2]d.0}, needs: [{component: boot, within: '>=1.0.%[2]d', source: S}]}\n", 1+n/1000, n/10%100, n%10)
	}
	b.WriteString("hops:\n  upward: open\n  downward: closed\n  rules:\n")
	for n := range rules {
		fmt.Fprintf(&b, "    - {from: '>=%d.%d.0 <%[1]d.%[2]d.5', to: '>=%[3]d.0.0', allow: %[4]v, source: S}\n", 1+n/100, n%100, 2+n/100, n%2 == 1)
	}
	return []byte(b.String())
}

func BenchmarkRead10000Releases(b *testing.B) {
	data := bigBook(10000, 1000)
	b.SetBytes(int64(len(data)))
	b.ReportAllocs()
	for b.Loop() {
		if _, err := Read("big.yaml", data); err != nil {
			b.Fatal(err)
		}
	}
}

func BenchmarkWarnings10000Releases(b *testing.B) {
	r, err := Read("big.yaml", bigBook(10000, 1000))
	if err != nil {
		b.Fatal(err)
	}
	b.ReportAllocs()
	for b.Loop() {
		r.Warnings()
	}
}
