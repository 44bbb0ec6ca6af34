package archive

import (
	"bufio"
	"bytes"
	"cmp"
	"errors"
	"io"
	"path"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"unicode/utf8"

	"fitcheck/core/fault"
)

var heads = sync.Pool{New: func() any { return bufio.NewReaderSize(nil, HeadSize) }}

// item shows one item to the visitor, passes its content to the sink and
// enters it where it is an archive. Its error ends the walk.
//
// In one piece: the order in which an item is opened, listed, kept and hashed.
func (w *walker) item(it *Item, src source) error {
	if err := w.countItem(it.Address); err != nil {
		return err
	}
	br := heads.Get().(*bufio.Reader)
	br.Reset(src.r)
	defer func() { br.Reset(nil); heads.Put(br) }()

	head, err := br.Peek(HeadSize)
	if err != nil && fatal(err) {
		return err // else the end, or damage, comes again when the pass gets there
	}
	shell := it.tell(head, src)
	p := &pass{w: w, it: it, in: br, at: src.at, sink: w.visitor.Begin(it, head)}
	if _, unsafe := SafeName(it.Name); unsafe != "" && it.Depth > 0 {
		p.problem(Unsafe, unsafe, notUnderThisName)
	}
	if it.Recoded {
		p.problem(Note, "its name is not in UTF-8; the bytes that are not are written as %NN", "")
	}
	switch k := kindOf(it.Container); {
	case k != nil:
		err = k.open(w, p, head)
	case it.Container == Shell:
		err = w.shell(p, shell)
	case it.Container != None:
		err = w.stream(p)
	default:
		err = nil
	}
	c := &Content{w: w, address: it.Address, at: src.at, depth: it.Depth}
	if err == nil && p.lists() {
		var kept *spool
		if kept, err = w.list(p, c); kept != nil {
			defer kept.Close()
		}
	}
	if err == nil && it.Container == None && !p.skipped && p.quick() {
		p.passOver()
		it.passedOver = true
	}
	if err == nil && !p.skipped {
		kept, spoolErr := w.keep(p, c)
		if spoolErr != nil {
			return spoolErr // what the sink needs at its end cannot be had
		}
		if kept != nil {
			defer kept.Close()
		}
		err = w.hash(p)
	}
	return w.end(p, c, len(head), err)
}

// tell says by the first bytes, and for a zip by the last, which container an item is. shell is where the
// payload of a shell script begins.
func (it *Item) tell(head []byte, src source) (shell int) {
	if it.Container = recognise(head); it.Container == Cpio && !isDelivery(head) {
		it.Container = None // its files are content
	}
	if it.Container == None && src.at != nil && it.Size > zipEndRecord && endsAsZip(it.Name, head, src.at, it.Size) {
		it.Container = Zip
	}
	if shell = shellPayload(head); it.Container == None && shell > 0 {
		it.Container = Shell
	}
	return shell
}

// keep spools what is left of an item whose sink needs all of it at the end; nil for one that does not.
func (w *walker) keep(p *pass, c *Content) (*spool, error) {
	k, ok := p.sink.(Keeper)
	if !ok || c.at != nil || !k.Keep() {
		return nil, nil
	}
	kept, err := w.spool(p)
	if err != nil {
		return nil, err
	}
	c.at = kept
	return kept, nil
}

// end hands an item that has passed to its sink, and then opens what the sink says lies within. err is what ended
// the pass.
func (w *walker) end(p *pass, c *Content, head int, err error) error {
	c.size, c.skipped = p.n.Load(), p.skipped
	if p.skipped && p.it.Size < 0 { // nobody knows how much there is
		c.size, c.unsized = int64(head), true
	}
	if p.skipped {
		c.at = nil
	}
	if p.ending != nil {
		p.problems = append(p.problems, *p.ending)
	}
	if endErr := byVisitor(p.sink.End(c, p.problems)); err == nil {
		err = endErr
	}
	if s, ok := p.sink.(Summer); ok {
		p.it.sum = s.Sum()
	}
	if o, ok := p.sink.(Opener); ok && err == nil {
		err = w.members(p, o.Members())
	}
	return err
}

// members visits what an image holds, as items.
func (w *walker) members(p *pass, all []Member) error {
	if len(all) == 0 {
		return nil
	}
	if err := w.enter(p.it, 1); err != nil {
		return err
	}
	for i, m := range all {
		it := p.it.child(strings.Map(func(r rune) rune {
			if r == '/' || r == '\\' || r == ':' || Invisible(r) {
				return '_'
			}
			return r
		}, m.Name), m.Size, 1, i)
		it.Part = true
		data := io.NewSectionReader(m.At, 0, m.Size)
		visit := func() error { return w.item(it, source{r: &reader{w: w, item: it.Address, r: data}, at: data}) }
		if err := w.once(it, data, packedAs{}, visit); err != nil {
			return err
		}
	}
	return nil
}

// unread shows an item to the visitor whose content cannot be read.
func (w *walker) unread(it *Item, err error) error {
	if fatal(err) {
		return err
	}
	if err := w.countItem(it.Address); err != nil {
		return err
	}
	class, what, advice := wrong(err)
	sink := w.visitor.Begin(it, nil)
	problems := []Problem{{it.Address, class, what, advice}}
	if _, unsafe := SafeName(it.Name); unsafe != "" {
		problems = append(problems, Problem{it.Address, Unsafe, unsafe, notUnderThisName})
	}
	return byVisitor(sink.End(&Content{w: w, address: it.Address, size: max(0, it.Size), depth: it.Depth, skipped: true, unread: true}, problems))
}

const notUnderThisName = "it will not be unpacked under this name"

// pass is the one pass over an item's content. Reading from it feeds the sink.
type pass struct {
	w        *walker
	it       *Item
	in       io.Reader
	at       io.ReaderAt
	sink     Sink
	n        atomic.Int64
	ahead    bool     // another goroutine reads it; see readAhead
	hit      bool     // reading failed
	ending   *Problem // what it failed with
	broken   bool     // and that has come to whoever reads what comes out of it
	skipped  bool     // its content is not wanted
	problems []Problem
}

func (p *pass) Read(b []byte) (int, error) {
	n, err := p.in.Read(b)
	if n > 0 {
		p.n.Add(int64(n))
		if _, werr := p.sink.Write(b[:n]); werr != nil {
			return n, &OpenError{Path: p.it.Address, Err: werr}
		}
	}
	if quick := (*errQuick)(nil); errors.As(err, &quick) {
		p.hit, p.broken = true, true
		p.passOver()
		return n, err
	}
	if err != nil && err != io.EOF && !fatal(err) {
		if p.hit = true; p.ending == nil {
			c, what, advice := wrong(err)
			p.ending = &Problem{p.it.Address, c, what, advice}
		}
		p.broken = p.broken || !p.ahead
	}
	return n, err
}

var buffers = sync.Pool{New: func() any { b := make([]byte, 128<<10); return &b }}

// drain reads what is left, so that the sink gets every byte.
func (p *pass) drain() error {
	buf := buffers.Get().(*[]byte)
	defer buffers.Put(buf)
	for {
		_, err := p.Read(*buf)
		switch {
		case err == io.EOF || err != nil && p.broken:
			return nil
		case err != nil:
			return err
		}
	}
}

// problem is called by one goroutine at a time: the one that owns the pass.
func (p *pass) problem(c Class, what, advice string) {
	p.problems = append(p.problems, Problem{p.it.Address, c, what, advice})
}

// failed sorts an error met inside an archive: fatal ones end the walk, the
// others are the item's. What is wrong with the pass itself is already told.
func (p *pass) failed(err error) error {
	if fatal(err) {
		return err
	}
	if quick := (*errQuick)(nil); errors.As(err, &quick) {
		p.stopped(quick.after)
		return nil
	}
	if p.skipped && p.quick() { // a beginning alone is no damage
		return nil
	}
	if c, what, advice := wrong(err); !p.broken && !slices.Contains(p.problems, Problem{p.it.Address, c, what, advice}) {
		p.problem(c, what, advice)
	}
	return nil
}

// each calls do for 0..n-1, on this goroutine and on as many others as there
// are free slots, and returns the first error.
func (w *walker) each(n int, do func(i int) error) error {
	var next atomic.Int64
	var first error
	var once sync.Once
	var stop atomic.Bool
	work := func() {
		for !stop.Load() {
			i := int(next.Add(1)) - 1
			if i >= n {
				return
			}
			if err := fault.Do(func() error { return do(i) }); err != nil {
				once.Do(func() { first = err })
				stop.Store(true)
			}
		}
	}
	var others sync.WaitGroup
spawn:
	for range n - 1 {
		select {
		case w.slots <- struct{}{}:
			others.Add(1)
			go func() {
				defer others.Done()
				defer func() { <-w.slots }()
				work()
			}()
		default:
			break spawn
		}
	}
	work()
	others.Wait()
	return first
}

// inOrder calls do for 0..n-1 in an order that suits: what is small first, since it may be a list
// that tells what is wanted of the rest, then the largest, so that the cores end together. beside,
// where it is not nil, is called alongside the latter.
func (w *walker) inOrder(n int, size func(i int) int64, beside func() error, do func(i int) error) error {
	var small, large []int
	for i := range n {
		if size(i) <= HeadSize {
			small = append(small, i)
		} else {
			large = append(large, i)
		}
	}
	if err := w.each(len(small), func(i int) error { return do(small[i]) }); err != nil {
		return err
	}
	slices.SortStableFunc(large, func(a, b int) int { return cmp.Compare(size(b), size(a)) })
	if beside == nil {
		return w.each(len(large), func(i int) error { return do(large[i]) })
	}
	return w.each(len(large)+1, func(i int) error {
		if i == 0 {
			return beside()
		}
		return do(large[i-1])
	})
}

// child makes the item of a file inside another.
func (it *Item) child(name string, size int64, levels int, order int) *Item {
	recoded := !utf8.ValidString(name)
	name = printable(name)
	return &Item{In: it.Container, Streamed: true, leader: it.leader, Within: it.Part || it.Within, Recoded: recoded, Address: it.Address + "::" + name, Name: name, Size: size, Depth: it.Depth + levels,
		Order: append(append([]int(nil), it.Order...), order)}
}

// endsAsZip tells a zip by its end where something else stands in front of it, such as
// the program that unpacks it.
func endsAsZip(name string, head []byte, at io.ReaderAt, size int64) bool {
	suffix := strings.ToLower(path.Ext(name))
	if !bytes.HasPrefix(head, []byte("MZ")) && !bytes.HasPrefix(head, []byte("#!")) && suffix != ".zip" && suffix != ".exe" {
		return false
	}
	dir, err := zipDirectory(at, size, 1)
	return dir.entries > 0 && (err == nil || errors.Is(err, errTooManyEntries))
}

// hash passes the rest of an item's own bytes to its sink, unless its digest
// is not wanted.
func (w *walker) hash(p *pass) error {
	if p.skipped {
		return nil
	}
	if p.at != nil && p.quick() {
		p.passOver()
		return nil
	}
	return p.drain()
}
