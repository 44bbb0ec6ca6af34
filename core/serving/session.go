package serving

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"strings"
	"sync"
	"time"

	"fitcheck/core/plan"
	"fitcheck/core/transport"
)

// News is what a session tells: one of its parts is set.
type News struct {
	Time      time.Time
	Transfer  *transport.Event
	Withdrawn string // name of a file
	Quiet     bool   // nobody asks any more, or nobody asked
	Why       string // of the latter two
}

// Listening is a protocol and the server of it.
type Listening struct {
	*transport.Protocol
	transport.Offer
}

// Session gives a folder out until its context ends.
type Session struct {
	Folder *Folder
	Offers []Listening
	// Wait is how long nobody may ask before that is told; 0 is the longest that the staged
	// devices' rulebooks give for a transfer, or five minutes.
	Wait time.Duration
	// Tell is told what happens; it is called by one at a time.
	Tell func(News)

	Ledger *Ledger

	mu       sync.Mutex
	checking bool
	own      map[string]bool // transfers to this computer itself
	once     bool
	done     chan struct{}
	ended    bool
}

const usualWait = 5 * time.Minute

// NewSession makes a session of a folder.
func NewSession(f *Folder, offers []Listening, tell func(News)) *Session {
	s := &Session{Folder: f, Offers: offers, Tell: tell, Ledger: NewLedger(f), own: map[string]bool{}, done: make(chan struct{})}
	for _, d := range f.Devices {
		s.Wait = max(s.Wait, d.Wait)
	}
	if s.Wait == 0 {
		s.Wait = usualWait
	}
	f.Changed = func(name, why string) { s.say(News{Withdrawn: name, Why: why}) }
	return s
}

func (s *Session) say(n News) {
	s.mu.Lock()
	defer s.mu.Unlock()
	n.Time = time.Now()
	s.Tell(n)
}

// take is told of a transfer.
func (s *Session) take(e transport.Event) {
	s.mu.Lock()
	key := fmt.Sprint(e.Protocol, e.ID)
	if s.checking && s.isOwn(e.Peer) {
		s.own[key] = true
	}
	own := s.own[key]
	s.mu.Unlock()
	if own { // the end of it may be told only after it was over
		return
	}
	e = s.Ledger.Take(e)
	s.say(News{Transfer: &e})
	if e.Kind == transport.Whole && s.once && s.Ledger.Done() {
		s.mu.Lock()
		defer s.mu.Unlock()
		if !s.ended {
			s.ended = true
			close(s.done)
		}
	}
}

func (s *Session) isOwn(peer string) bool {
	a, err := netip.ParseAddr(peer)
	if err != nil {
		return false
	}
	a = a.Unmap().WithZone("")
	if a.IsLoopback() {
		return true
	}
	for _, o := range s.Offers {
		if at, ok := addressOf(o.Address()); ok && at.Addr().Unmap() == a {
			return true
		}
	}
	return false
}

func addressOf(a net.Addr) (netip.AddrPort, bool) {
	at, err := netip.ParseAddrPort(a.String())
	return at, err == nil
}

// Run serves until the context ends, or, with once, until all was fetched. ready is called
// when a fetch of its own has shown that each protocol gives out what was staged; an error
// of it ends the session.
func (s *Session) Run(ctx context.Context, once bool, ready func() error) error {
	s.once, s.checking = once, true
	inner, stop := context.WithCancel(ctx)
	defer stop()
	var wg sync.WaitGroup
	failed := make(chan error, len(s.Offers))
	for _, o := range s.Offers {
		wg.Go(func() {
			if err := o.Serve(inner, s.Folder, s.take); err != nil {
				failed <- fmt.Errorf("%s: %w", o.Name, err)
			}
		})
	}
	defer wg.Wait()
	defer stop()
	if err := s.fetchOwn(ctx); err != nil {
		return err
	}
	s.mu.Lock()
	s.checking = false
	s.mu.Unlock()
	if err := ready(); err != nil {
		return err
	}
	look := time.NewTicker(time.Second)
	defer look.Stop()
	var quietSince time.Time
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-s.done:
			return nil
		case err := <-failed:
			return err
		case <-look.C:
			s.Folder.Look()
			switch quiet := s.Ledger.Quiet(); {
			case quiet < s.Wait:
				quietSince = time.Time{}
			case quietSince.IsZero():
				quietSince = time.Now()
				if why := s.silence(); why != "" {
					s.say(News{Quiet: true, Why: why})
				}
			}
		}
	}
}

// silence says what may keep a device from asking.
func (s *Session) silence() string {
	missing := s.Ledger.Missing()
	switch {
	case len(missing) == 0:
		return ""
	case len(s.Ledger.Fetches()) > 0:
		return strings.Join(missing, "; ")
	}
	var ports []string
	for _, o := range s.Offers {
		if at, ok := addressOf(o.Address()); ok {
			ports = append(ports, fmt.Sprintf("%s port %d", strings.ToUpper(o.Network), at.Port()))
		}
	}
	why := "nobody has asked for anything: is the address of this computer what the device was given, and does a firewall on the way, or on this computer, let through " + strings.Join(ports, " and ") + "?"
	for _, o := range s.Offers {
		if o.Network == "udp" {
			why += " For TFTP the answers come from further UDP ports of this computer."
			break
		}
	}
	return why
}

// fetchOwn fetches the smallest file by every protocol, as a device would.
func (s *Session) fetchOwn(ctx context.Context) error {
	name := s.Folder.Smallest()
	if name == "" {
		return errors.New("nothing is left that could be offered: every file has changed since it was staged; stage again")
	}
	for _, o := range s.Offers {
		at, ok := addressOf(o.Address())
		if !ok {
			continue
		}
		host := at.Addr()
		if host.IsUnspecified() {
			host = netip.AddrFrom4([4]byte{127, 0, 0, 1})
			if !at.Addr().Is4() && !at.Addr().Is4In6() {
				if l, err := net.Listen("tcp4", "127.0.0.1:0"); err != nil {
					host = netip.IPv6Loopback()
				} else {
					l.Close()
				}
			}
		}
		h := sha256.New()
		within, stop := context.WithTimeout(ctx, 20*time.Second)
		err := o.Fetch(within, netip.AddrPortFrom(host, at.Port()).String(), name, o.Told(), h, nil)
		stop()
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err != nil {
			return fmt.Errorf("%s: this computer itself could not fetch %s by it (%v); is something else at that port, or does a firewall on this computer hold it?", o.Name, name, err)
		}
		if got := hex.EncodeToString(h.Sum(nil)); got != s.Folder.SHA256(name) {
			return fmt.Errorf("%s: what this computer itself fetched of %s is not what was staged (SHA-256 %s)", o.Name, name, got)
		}
	}
	return nil
}

// Reach is an address of this computer at which something is offered, and what is known of
// who fetches there.
type Reach struct {
	Host    string   // address
	Inside  []string // devices whose network it is in
	Outside []string // devices in other networks
}

// Reaches lists the addresses at which a protocol is reached, with the devices in whose
// network each is. own are the addresses of this computer.
func (s *Session) Reaches(o Listening, own []netip.Prefix) []Reach {
	at, ok := addressOf(o.Address())
	if !ok {
		return nil
	}
	var out []Reach
	add := func(a netip.Addr) {
		r := Reach{Host: a.String()}
		for _, d := range s.Folder.Devices {
			if d.Address == "" {
				continue
			}
			if _, in := plan.ServerAddress(d.Fetcher, d.Address, a.String()); in {
				r.Inside = append(r.Inside, d.Fetcher)
			} else {
				r.Outside = append(r.Outside, d.Fetcher)
			}
		}
		out = append(out, r)
	}
	if !at.Addr().IsUnspecified() {
		add(at.Addr().Unmap())
		return out
	}
	for _, p := range own {
		a := p.Addr().Unmap()
		if a.IsLoopback() || a.IsLinkLocalUnicast() || at.Addr().Is4() && !a.Is4() {
			continue
		}
		add(a)
	}
	if len(out) == 0 {
		add(netip.AddrFrom4([4]byte{127, 0, 0, 1}))
	}
	return out
}
