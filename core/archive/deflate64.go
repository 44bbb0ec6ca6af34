package archive

import (
	"bufio"
	"io"
)

// Deflate64 (method 9 of a zip; APPNOTE.TXT 6.3.10, section 4.4.5) is Deflate (RFC 1951) with
// a window of 64 KiB, distances for it (codes 30 and 31), and lengths up to 65 538 (code 285
// has 16 more bits). No library reads it.
type deflate64 struct {
	r     *bufio.Reader
	bits  uint64
	n     uint // bits held
	win   [64 << 10]byte
	pos   int // in the window, where the next byte goes
	out   int // from where on bytes are still to be given
	last  bool
	block func() (done bool, err error) // what goes on in the block; nil between blocks
	err   error
	made  int64 // bytes, as far as the window holds them
	match struct{ length, distance int }
	lens  huffman
	dists huffman
}

func newDeflate64(r io.Reader) io.ReadCloser {
	br, ok := r.(*bufio.Reader)
	if !ok {
		br = bufio.NewReader(r)
	}
	return &deflate64{r: br}
}

func (d *deflate64) Close() error { return nil }

func (d *deflate64) Read(p []byte) (int, error) {
	for d.out == d.pos && d.err == nil {
		d.step()
	}
	if d.out == d.pos {
		return 0, d.err
	}
	n := copy(p, d.win[d.out:max(d.out, min(len(d.win), d.end()))])
	d.out = (d.out + n) % len(d.win)
	return n, nil
}

// end is where what can be given in one piece ends.
func (d *deflate64) end() int {
	if d.pos > d.out {
		return d.pos
	}
	return len(d.win)
}

// step inflates until the window is half full, the block ends or nothing is left.
func (d *deflate64) step() {
	for made := 0; made < len(d.win)/2; {
		if d.match.length > 0 {
			n := min(d.match.length, len(d.win)/2-made)
			for range n {
				d.put(d.win[(d.pos-d.match.distance+len(d.win))%len(d.win)])
			}
			d.match.length -= n
			made += n
			continue
		}
		if d.block == nil {
			if d.last {
				d.err = io.EOF
				return
			}
			if d.err = d.begin(); d.err != nil {
				return
			}
			continue
		}
		done, err := d.block()
		if err != nil {
			d.err = err
			return
		}
		if done {
			d.block = nil
		} else if d.match.length == 0 {
			made++
		}
	}
}

func (d *deflate64) put(c byte) {
	d.win[d.pos] = c
	d.pos = (d.pos + 1) % len(d.win)
	if d.made < int64(len(d.win)) { // so far a distance may reach back
		d.made++
	}
}

var errDeflate64 = damagedf("the compressed data makes no sense (Deflate64)")

// take gives the next bits, the first one lowest.
func (d *deflate64) take(n uint) (int, error) {
	for d.n < n {
		b, err := d.r.ReadByte()
		if err != nil {
			if err == io.EOF {
				err = io.ErrUnexpectedEOF
			}
			return 0, err
		}
		d.bits |= uint64(b) << d.n
		d.n += 8
	}
	v := d.bits & (1<<n - 1)
	d.bits >>= n
	d.n -= n
	return int(v), nil
}

// begin reads the header of a block.
func (d *deflate64) begin() error {
	h, err := d.take(3)
	if err != nil {
		return err
	}
	d.last = h&1 == 1
	switch h >> 1 {
	case 0:
		return d.stored()
	case 1:
		var lens [288]byte
		for i := range lens {
			switch {
			case i < 144, i > 279:
				lens[i] = 8
			case i < 256:
				lens[i] = 9
			default:
				lens[i] = 7
			}
		}
		var dists [32]byte
		for i := range dists {
			dists[i] = 5
		}
		d.lens.make(lens[:])
		d.dists.make(dists[:])
	case 2:
		if err := d.tables(); err != nil {
			return err
		}
	default:
		return errDeflate64
	}
	d.block = d.symbol
	return nil
}

func (d *deflate64) stored() error {
	d.bits >>= d.n % 8
	d.n -= d.n % 8
	length, err := d.take(16)
	if err != nil {
		return err
	}
	inverse, err := d.take(16)
	if err != nil {
		return err
	}
	if length^inverse != 0xffff {
		return errDeflate64
	}
	d.block = func() (bool, error) {
		if length == 0 {
			return true, nil
		}
		c, err := d.take(8)
		if err != nil {
			return false, err
		}
		d.put(byte(c))
		length--
		return false, nil
	}
	return nil
}

// tables reads the lengths of the codes (RFC 1951, section 3.2.7).
//
// In one piece: the three tables are read from one run of bits.
func (d *deflate64) tables() error {
	n := [3]int{}
	for i, bits := range []uint{5, 5, 4} {
		v, err := d.take(bits)
		if err != nil {
			return err
		}
		n[i] = v
	}
	literals, distances := n[0]+257, n[1]+1
	var own [19]byte
	for i := range n[2] + 4 {
		v, err := d.take(3)
		if err != nil {
			return err
		}
		own[[19]int{16, 17, 18, 0, 8, 7, 9, 6, 10, 5, 11, 4, 12, 3, 13, 2, 14, 1, 15}[i]] = byte(v)
	}
	var codes huffman
	if !codes.make(own[:]) {
		return errDeflate64
	}
	var all [288 + 32]byte
	for i := 0; i < literals+distances; {
		c, err := codes.next(d)
		if err != nil {
			return err
		}
		repeat, value := 1, byte(c)
		switch {
		case c == 16 && i > 0:
			v, err := d.take(2)
			if err != nil {
				return err
			}
			repeat, value = v+3, all[i-1]
		case c == 17, c == 18:
			bits, least := uint(3), 3
			if c == 18 {
				bits, least = 7, 11
			}
			v, err := d.take(bits)
			if err != nil {
				return err
			}
			repeat, value = v+least, 0
		case c > 15:
			return errDeflate64
		}
		if i+repeat > literals+distances {
			return errDeflate64
		}
		for range repeat {
			all[i] = value
			i++
		}
	}
	if !d.lens.make(all[:literals]) || !d.dists.make(all[literals:literals+distances]) {
		return errDeflate64
	}
	return nil
}

// symbol reads a literal, the end of the block, or a length with its distance.
func (d *deflate64) symbol() (done bool, err error) {
	c, err := d.lens.next(d)
	if err != nil {
		return false, err
	}
	switch {
	case c < 256:
		d.put(byte(c))
		return false, nil
	case c == 256:
		return true, nil
	case c > 285:
		return false, errDeflate64
	}
	length, extra := 0, uint(0)
	switch k := c - 257; {
	case c == 285:
		length, extra = 3, 16
	case k < 8:
		length = k + 3
	default:
		extra = uint(k/4 - 1)
		length = (4+k%4)<<extra + 3
	}
	v, err := d.take(extra)
	if err != nil {
		return false, err
	}
	length += v
	c, err = d.dists.next(d)
	if err != nil {
		return false, err
	}
	distance := c + 1
	if c > 3 {
		bits := uint(c/2 - 1)
		v, err := d.take(bits)
		if err != nil {
			return false, err
		}
		distance = (2+c%2)<<bits + 1 + v
	}
	if int64(distance) > d.made {
		return false, errDeflate64
	}
	d.match.length, d.match.distance = length, distance
	return false, nil
}

// huffman is a canonical code: how many codes there are of each length, and the symbols in
// the order of their codes.
type huffman struct {
	count   [16]int
	symbols []int
}

// make builds the code of lengths; false when they are none.
func (h *huffman) make(lengths []byte) bool {
	*h = huffman{symbols: h.symbols[:0]}
	for _, l := range lengths {
		if l > 0 {
			h.count[l]++
		}
	}
	left := 1
	for _, n := range h.count[1:] {
		if left = left<<1 - n; left < 0 {
			return false
		}
	}
	for l := byte(1); l < 16; l++ {
		for symbol, have := range lengths {
			if have == l {
				h.symbols = append(h.symbols, symbol)
			}
		}
	}
	return len(h.symbols) > 0 || len(lengths) <= 32 // of distances, there may be none
}

// next reads a symbol.
func (h *huffman) next(d *deflate64) (int, error) {
	code, first, index := 0, 0, 0
	for _, n := range h.count[1:] {
		bit, err := d.take(1)
		if err != nil {
			return 0, err
		}
		code |= bit
		if code-first < n {
			return h.symbols[index+code-first], nil
		}
		index += n
		first = (first + n) << 1
		code <<= 1
	}
	return 0, errDeflate64
}
