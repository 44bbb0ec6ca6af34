package plan

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestHostAddress(t *testing.T) {
	p := netip.MustParsePrefix
	for _, c := range []struct {
		own     []netip.Prefix
		network string
		ok      bool
		says    string
	}{
		{[]netip.Prefix{p("127.0.0.1/8"), p("192.0.2.7/24")}, "10.77.0.2/24", false, "no address in 10.77.0.0/24 (it has 192.0.2.7/24): nothing reaches the boot loader before it has 10.77.0.2/24"},
		{[]netip.Prefix{p("127.0.0.1/8"), p("fe80::1/64")}, "10.77.0.2/24", false, "no address in 10.77.0.0/24: nothing"},
		{[]netip.Prefix{p("10.77.0.9/24")}, "10.77.0.2/24", true, "has 10.77.0.9/24"},
		{nil, "", true, ""},
	} {
		text, ok := HostAddress(c.own, c.network)
		assert.Equal(t, c.ok, ok, c.network)
		assert.Contains(t, text, c.says)
	}
}

func TestServerAddress(t *testing.T) {
	for _, c := range []struct {
		address, server, text string
		ok                    bool
	}{
		{"192.0.2.7/24", "192.0.2.9", "cab (192.0.2.7/24) is in one network with the server 192.0.2.9", true},
		{"192.0.2.7/28", "192.0.2.99", "cab (192.0.2.7/28) and the server 192.0.2.99 are not in one network", false},
		{"2001:db8::7/64", "2001:db8::9", "cab (2001:db8::7/64) is in one network with the server 2001:db8::9", true},
		{"192.0.2.7/24", "2001:db8::9", "cab (192.0.2.7/24) and the server 2001:db8::9 are not in one network", false},
		{"192.0.2.7", "192.0.2.9", "", true},
		{"192.0.2.7/24", "depot.example", "", true},
		{"", "", "", true},
	} {
		text, ok := ServerAddress("cab", c.address, c.server)
		assert.Equal(t, c.text, text)
		assert.Equal(t, c.ok, ok)
	}
}
