package image

import (
	"io"

	"fitcheck/core/archive"
	"fitcheck/core/digest"
	"fitcheck/core/fact"
)

// Reading is a file that is told apart, and its header read, while its bytes
// pass by.
type Reading struct {
	set     *Set
	format  *Format
	m       *Image
	again   bool // Read asked for bytes that had not passed
	keep    bool
	files   bool // it is a file system whose files are to be listed
	entered bool // it is opened as an archive; its parts are items of their own
	// trailers: the set has formats that are known by the end of a file, which
	// any file may turn out to be of.
	trailers bool
	listed   bool
	opened   bool
	sums     *digest.Stretches
	head     []byte // kept for a file of which no more is read
	banner   banner
	ends     []Trailer
	nature   nature
	behind   *behind // what follows the image, while it passes
	n        int64
}

// Begin tells a file by its first bytes, and reads its header as far as those
// reach. size is that of the whole file, -1 while it is not known. entered
// says that the file is opened as an archive.
func Begin(set *Set, head []byte, size int64, entered bool) *Reading {
	r := &Reading{set: set, format: set.Sniff(head), entered: entered}
	if len(head) < archive.HeadSize {
		size = int64(len(head))
	}
	r.nature.begin(head)
	r.head = head
	r.trailers = set.trailers() && !entered
	if !entered {
		for _, f := range set.behind {
			r.ends = append(r.ends, f.Trailer())
		}
	}
	if r.format == nil || r.format.Read == nil {
		return r
	}
	src := &Source{head: head, size: size}
	m, err := r.format.Read(src)
	r.again = src.beyond && !entered
	if r.m = settle(m, err); r.again {
		return r
	}
	r.m.Format = r.format.Name
	r.sums = digest.NewStretches(r.m.partials())
	if r.m.Extent > 0 {
		r.behind = &behind{from: r.m.Extent}
	}
	r.files = !entered && listsFiles(r.format.Name)
	for i := range r.m.Parts {
		if p := &r.m.Parts[i]; !entered && r.mustLook(p, head) {
			r.keep = true
		}
	}
	return r
}

// settle makes an image of what Read gave.
func settle(m *Image, err error) *Image {
	if m == nil {
		m = &Image{}
	}
	if err != nil && err != ErrBeyond {
		m.Problem("%v", err)
	}
	return m
}

// mustLook tells whether a part holds something that is read in its turn.
func (r *Reading) mustLook(p *Part, head []byte) bool {
	if p.Opaque {
		return false
	}
	if p.Offset+min(p.Size, archive.HeadSize/2) > int64(len(head)) {
		return true // it lies further on; nobody knows yet
	}
	inner := head[p.Offset:min(int64(len(head)), p.Offset+p.Size)]
	f := r.set.Sniff(inner)
	p.Kind = f.name()
	return archive.CompressionOf(inner) != "" || f != nil && f.Read != nil || p.Starts && (notStarted(p.Kind, inner) || AllOf(inner, 0) || AllOf(inner, 0xff))
}

// Kind is the kind of the file as far as its first bytes tell.
func (r *Reading) Kind() string {
	if r.format == nil {
		return "unknown"
	}
	return r.format.Name
}

// Keep tells whether the whole content is needed at the end.
func (r *Reading) Keep() bool { return r.again || r.keep || r.files || r.trailers }

// Listed says that somebody else lists the files of the file system that it is.
func (r *Reading) Listed() {
	if r.files = false; r.m != nil {
		r.m.listed = true
	}
	r.listed = true
}

// Opened says that somebody else looks into the members of the image that it is; those that
// a boot loader starts are its witnesses, and are looked into here, too.
func (r *Reading) Opened() { r.opened = r.format != nil && r.format.Members != nil }

// Write takes the next bytes of the file.
func (r *Reading) Write(p []byte) (int, error) {
	if r.sums != nil {
		r.sums.Write(p)
	}
	if r.behind != nil && r.n+int64(len(p)) > r.behind.from {
		r.behind.Write(p[max(0, r.behind.from-r.n):])
	}
	switch {
	case r.entered:
	case r.format == nil:
		r.toTrailers(p)
		r.nature.write(p, r.n)
	case r.format.Firmware:
		r.toTrailers(p)
		r.banner.write(p)
	}
	r.n += int64(len(p))
	return len(p), nil
}

// End settles the checksums and looks into the parts, once all bytes have
// passed. The image is nil when there is no header to read. The error ends
// the walk.
//
// In one piece: what is settled at the end, in the order in which one needs the other.
func (r *Reading) End(c *archive.Content) (kind string, m *Image, err error) {
	total := c.Size()
	if total == 0 {
		return "empty", nil, nil
	}
	if c.Skipped() {
		return r.endEarly(c)
	}
	if r.trailers {
		if f, m, err := r.set.readTrailer(c); err != nil || f != nil {
			return f.name(), m, err
		}
	}
	if r.format == nil {
		if kind := r.nature.uniform(); kind != "" {
			return kind, nil, nil
		}
		if m := r.trailer(c); m != nil {
			return m.Format, m, nil
		}
		return "unknown", nil, nil
	}
	if r.format.Read == nil {
		return r.format.Name, nil, nil
	}
	if r.again {
		if r.m, err = readAll(r.format, c); err != nil {
			return r.format.Name, nil, err
		}
	} else {
		results := r.sums.Results()
		for k, i := range r.m.pending() {
			r.m.Sums[i].took(results[k])
		}
	}
	if !r.entered {
		r.m.listed, r.m.opened = r.listed, r.opened
		if c.Readable() && (r.again || r.keep || r.files) {
			if err := lookInto(r.set, c, r.m); err != nil {
				return r.format.Name, nil, err
			}
		}
		r.banner.tell(r.m)
	}
	if r.behind != nil {
		r.m.Behind = r.behind.tell(r.set, total)
	} else if err := r.m.findBehind(r.set, c); err != nil {
		return r.format.Name, nil, err
	}
	m = r.trailer(c)
	if m != nil && !r.entered {
		r.m.Behind = nil // the suffix is what follows
	}
	r.m.finish(c)
	if m != nil && !r.entered {
		m.wrap(r.m)
		return m.Format, m, nil
	}
	return r.format.Name, r.m, nil
}

// endEarly settles what the first bytes of a file tell, where no more of it is
// read.
func (r *Reading) endEarly(c *archive.Content) (string, *Image, error) {
	if r.format == nil || r.m == nil {
		return r.Kind(), nil, nil
	}
	if r.sums == nil { // its header reaches further than what was read
		r.m.Format = r.format.Name
		r.sums = digest.NewStretches(r.m.partials())
	}
	r.sums.Write(r.head[:min(int64(len(r.head)), c.Size())])
	results := r.sums.Results()
	for k, i := range r.m.pending() {
		if results[k].Missing > 0 {
			r.m.Sums[i].Skipped = true
			continue
		}
		r.m.Sums[i].took(results[k])
	}
	r.m.Extent = min(r.m.Extent, c.Size())
	r.m.place(r.m.Facts, c.Address())
	for i := range r.m.Configs {
		r.m.place(r.m.Configs[i].Facts, c.Address())
	}
	return r.format.Name, r.m, nil
}

func (r *Reading) toTrailers(p []byte) {
	for _, t := range r.ends {
		_, _ = t.Write(p)
	}
}

// trailer is what stands behind the file, nil for nothing.
func (r *Reading) trailer(c *archive.Content) *Image {
	for i, t := range r.ends {
		if m := t.Image(c.Size()); m != nil {
			m.Format = r.set.behind[i].Name
			m.place(m.Facts, c.Address())
			return m
		}
	}
	return nil
}

// Nature says what can be said of a file of no known format: its entropy.
func (r *Reading) Nature() string { return r.nature.words() }

func (f *Format) name() string {
	if f == nil {
		return "unknown"
	}
	return f.Name
}

// readAll reads a header, and recomputes its checksums, with the whole
// content at hand.
func readAll(f *Format, c *archive.Content) (*Image, error) {
	src := &Source{size: c.Size(), c: c}
	m, err := f.Read(src)
	if src.fatal != nil {
		return nil, src.fatal
	}
	m = settle(m, err)
	m.Format = f.Name
	return m, m.Compute(c)
}

// pending lists the sums that are still to be computed.
func (m *Image) pending() []int {
	var out []int
	for i, s := range m.Sums {
		if s.Got == "" {
			out = append(out, i)
		}
	}
	return out
}

func (m *Image) partials() []digest.Partial {
	var out []digest.Partial
	for _, i := range m.pending() {
		out = append(out, m.Sums[i].Partial)
	}
	return out
}

func (s *Sum) took(r digest.Result) {
	s.Got, s.Missing, s.OK = r.Hex, r.Missing, r.Missing == 0 && r.Hex == s.Want
}

// Compute recomputes the pending checksums from the content.
func (m *Image) Compute(c *archive.Content) error {
	for _, i := range m.pending() {
		if err := m.computeOne(c, i); err != nil {
			return err
		}
	}
	return nil
}

func (m *Image) computeOne(c *archive.Content, i int) error {
	over := m.Sums[i].Over
	st := digest.NewStretches([]digest.Partial{shifted(m.Sums[i].Partial)})
	if _, err := io.Copy(st, c.Reader(max(0, over.From), max(0, over.To-over.From))); err != nil {
		return err
	}
	m.Sums[i].took(st.Results()[0])
	return nil
}

// shifted is a partial sum as seen from the first byte of its stretch.
func shifted(p digest.Partial) digest.Partial {
	out := p
	out.Over = digest.Stretch{From: 0, To: p.Over.To - p.Over.From}
	out.Zeroed = nil
	for _, z := range p.Zeroed {
		out.Zeroed = append(out.Zeroed, digest.Stretch{From: z.From - p.Over.From, To: z.To - p.Over.From})
	}
	return out
}

// finish says what the extent tells, and gives the facts their file and
// strength.
func (m *Image) finish(c *archive.Content) {
	if total := c.Size(); m.Extent > total {
		m.Problem("truncated: its header announces %d bytes in all, and there are %d", m.Extent, total)
	}
	m.tellBehind()
	m.place(m.Facts, c.Address())
	for i := range m.Configs {
		m.place(m.Configs[i].Facts, c.Address())
	}
}

func (m *Image) place(facts []fact.Fact, address string) {
	for i := range facts {
		f := &facts[i]
		if f.Source.File == "" {
			f.Source.File = address
			f.Protected = m.covered(f.Source)
		}
	}
}

// wrap makes an image that lies inside another its first part.
func (m *Image) wrap(inner *Image) {
	m.Parts = []Part{{Name: "firmware", Size: m.Parts[0].Size, Kind: inner.Format, Image: inner}}
	m.adopt(inner)
	m.Note("it holds a file of the format %s", inner.Format)
}

// adopt takes over what the header of an image inside says, and the header or
// trailer around it does not.
func (m *Image) adopt(inner *Image) {
	var taken []fact.Fact
	for _, f := range inner.Facts {
		if _, said := m.First(f.About); !said {
			taken = append(taken, f)
		}
	}
	m.Facts = append(m.Facts, taken...)
	m.Configs = inner.Configs
}
