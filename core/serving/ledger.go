package serving

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"fitcheck/core/transport"
)

// Ledger is who fetched what, by the events of transfers.
type Ledger struct {
	f *Folder

	mu      sync.Mutex
	fetches []*Fetch
	by      map[string]*Fetch // by peer and file
	last    time.Time         // when something was asked for
}

// Fetch is a file as one address fetches it.
type Fetch struct {
	Peer, Protocol, Name string
	Size, Done           int64
	State                transport.Kind
	Why                  string
	Took                 time.Duration
	Times                int // how often it was asked for

	id    uint64
	parts []stretch // that are over, of those that were fetched in parts
}

type stretch struct{ from, to int64 }

// NewLedger begins a ledger of a folder.
func NewLedger(f *Folder) *Ledger {
	return &Ledger{f: f, by: map[string]*Fetch{}, last: time.Now()}
}

// maxFetches bounds what is kept of who asked.
const maxFetches = 10_000

// Take writes an event down. It changes a part that completes the file to the whole of it.
func (l *Ledger) Take(e transport.Event) transport.Event {
	l.mu.Lock()
	defer l.mu.Unlock()
	if e.Kind != transport.Going {
		l.last = time.Now()
	}
	if e.Name == "" {
		return e // what is not here
	}
	key := e.Peer + "\x00" + e.Name
	f := l.by[key]
	if f == nil {
		f = &Fetch{Peer: e.Peer, Name: e.Name, Size: e.Size}
		if len(l.fetches) < maxFetches {
			l.by[key] = f
			l.fetches = append(l.fetches, f)
		}
	}
	switch {
	case e.Kind == transport.Asked:
		f.Times++
		if f.State == transport.Whole { // once more, from the same address: what was whole stays so
			return e
		}
		f.id = e.ID
	case f.State == transport.Whole || f.id != e.ID && e.Kind != transport.Whole:
		return e // an older transfer of it
	}
	f.Protocol, f.State, f.Why, f.Took = e.Protocol, e.Kind, e.Why, e.Took
	switch {
	case e.Kind == transport.Whole && e.Part():
		f.add(stretch{e.From, e.From + e.Length})
		f.Done = f.over()
		if f.Done < f.Size {
			f.State = transport.Going
		} else {
			e.Done, e.From, e.Length = f.Size, 0, f.Size
		}
	case e.Part():
		f.Done = max(f.over(), e.From+e.Done)
	default:
		f.Done = e.Done
	}
	return e
}

// add joins a stretch to those that are over.
func (f *Fetch) add(s stretch) {
	f.parts = append(f.parts, s)
	slices.SortFunc(f.parts, func(a, b stretch) int { return cmp.Compare(a.from, b.from) })
	out := f.parts[:1]
	for _, p := range f.parts[1:] {
		if last := &out[len(out)-1]; p.from <= last.to {
			last.to = max(last.to, p.to)
		} else {
			out = append(out, p)
		}
	}
	f.parts = out
}

func (f *Fetch) over() int64 {
	n := int64(0)
	for _, p := range f.parts {
		n += p.to - p.from
	}
	return n
}

// Fetches lists them, in the order in which they began.
func (l *Ledger) Fetches() []Fetch {
	l.mu.Lock()
	defer l.mu.Unlock()
	var out []Fetch
	for _, f := range l.fetches {
		out = append(out, *f)
	}
	return out
}

// Quiet is how long nothing was asked for.
func (l *Ledger) Quiet() time.Duration {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, f := range l.fetches {
		if f.State == transport.Asked || f.State == transport.Going {
			return 0
		}
	}
	return time.Since(l.last)
}

// wholeBy counts the addresses that have a file whole.
func (l *Ledger) wholeBy(name string) int {
	n := 0
	for _, f := range l.fetches {
		if f.Name == name && f.State == transport.Whole {
			n++
		}
	}
	return n
}

// Done tells whether every file was fetched whole by as many addresses as there are
// fetchers for it; what was withdrawn never is.
func (l *Ledger) Done() bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, name := range l.f.names {
		if l.wholeBy(name) < l.f.files[name].fetchers {
			return false
		}
	}
	return true
}

// Missing says what was never asked for, or never came over whole, file by file.
func (l *Ledger) Missing() []string {
	l.mu.Lock()
	defer l.mu.Unlock()
	var out []string
	manifest := ""
	for _, f := range l.fetches {
		if l.f.files[f.Name].manifest && f.State == transport.Whole {
			manifest = f.Name
		}
	}
	for _, name := range l.f.names {
		it := l.f.files[name]
		if have := l.wholeBy(name); have < it.fetchers {
			out = append(out, l.lacks(name, it.fetchers, have, manifest))
		}
	}
	return out
}

func (l *Ledger) lacks(name string, fetchers, have int, manifest string) string {
	var broken, going []string
	for _, f := range l.fetches {
		switch {
		case f.Name != name || f.State == transport.Whole:
		case f.State == transport.Broken:
			broken = append(broken, f.Peer)
		default:
			going = append(going, f.Peer)
		}
	}
	switch {
	case len(going) > 0:
		return fmt.Sprintf("%s is not yet whole with %s", name, strings.Join(going, ", "))
	case len(broken) > 0:
		return fmt.Sprintf("%s broke off with %s, and was not asked for again", name, strings.Join(broken, ", "))
	case have > 0:
		return fmt.Sprintf("%s was fetched whole by %d of %d", name, have, fetchers)
	case manifest != "" && name != manifest:
		return fmt.Sprintf("%s was read, and %s was never asked for", manifest, name)
	}
	return name + " was never asked for"
}
