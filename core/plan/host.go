package plan

import (
	"fmt"
	"net/netip"
	"strings"
)

// ServerAddress says whether who fetches the files, which has an address with the length of its
// prefix, is in one network with the server: ok is false where it is not, and needs a router that
// knows the way. "" says nothing: one of the two is a name, or not known.
func ServerAddress(who, address, server string) (text string, ok bool) {
	at, err := netip.ParsePrefix(address)
	host, err2 := netip.ParseAddr(server)
	if err != nil || err2 != nil {
		return "", true
	}
	if at.Masked().Contains(host) {
		return fmt.Sprintf("%s (%s) is in one network with the server %s", who, at, server), true
	}
	return fmt.Sprintf("%s (%s) and the server %s are not in one network", who, at, server), false
}

// HostAddress says whether this computer, which has some addresses, is in the network in which a
// boot loader answers: ok is true where it is. network is the address that the rulebook gives to
// the computer, with the length of its prefix; "" says nothing.
func HostAddress(own []netip.Prefix, network string) (text string, ok bool) {
	want, err := netip.ParsePrefix(network)
	if err != nil {
		return "", true
	}
	var has []string
	for _, a := range own {
		if a.Addr().IsLoopback() || a.Addr().IsLinkLocalUnicast() {
			continue
		}
		if want.Masked().Contains(a.Addr()) {
			return fmt.Sprintf("this computer has %s, which is in the boot loader's network", a), true
		}
		has = append(has, a.String())
	}
	text = fmt.Sprintf("this computer has no address in %s", want.Masked())
	if len(has) > 0 {
		text += " (it has " + strings.Join(has, ", ") + ")"
	}
	return text + ": nothing reaches the boot loader before it has " + want.String(), false
}
