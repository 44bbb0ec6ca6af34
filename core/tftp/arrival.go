package tftp

import (
	"net"

	"golang.org/x/net/ipv4"
	"golang.org/x/net/ipv6"
)

// arrivals reads requests and tells at which address of this host each came in. The answer
// must go out from that one: a client drops what comes from another (RFC 1350, section 4).
type arrivals func(b []byte) (n int, from net.Addr, at net.IP, err error)

// newArrivals takes a socket. One that is bound to an address says it by itself; one that is
// bound to any asks the system for the address of each packet (RFC 3542, section 6.1), where
// the system can tell.
func newArrivals(conn net.PacketConn) arrivals {
	plain := func(b []byte) (int, net.Addr, net.IP, error) {
		n, from, err := conn.ReadFrom(b)
		return n, from, nil, err
	}
	udp, ok := conn.(*net.UDPConn)
	if !ok {
		return plain
	}
	local := udp.LocalAddr().(*net.UDPAddr).IP
	switch {
	case !local.IsUnspecified():
		return plain
	case local.To4() != nil:
		p := ipv4.NewPacketConn(udp)
		if p.SetControlMessage(ipv4.FlagDst, true) != nil {
			return plain
		}
		return func(b []byte) (int, net.Addr, net.IP, error) {
			n, cm, from, err := p.ReadFrom(b)
			if cm == nil {
				return n, from, nil, err
			}
			return n, from, cm.Dst, err
		}
	}
	p := ipv6.NewPacketConn(udp)
	if p.SetControlMessage(ipv6.FlagDst, true) != nil {
		return plain
	}
	return func(b []byte) (int, net.Addr, net.IP, error) {
		n, cm, from, err := p.ReadFrom(b)
		if cm == nil {
			return n, from, nil, err
		}
		return n, from, cm.Dst, err
	}
}
