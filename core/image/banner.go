package image

import (
	"bytes"
	"regexp"

	"fitcheck/core/fact"
)

// Linux is what facts from a kernel's own version text are about. It is the
// kernel's version, not that of the firmware around it.
const Linux fact.Name = "linux"

var (
	bannerStart = []byte("Linux version ")
	bannerText  = regexp.MustCompile(`^Linux version (\d+\.\d+[^\s\x00]*) \([^\x00\n]{0,400}`)
)

const (
	bannerRoom = 512
	maxBanners = 4
)

// banner looks for the text by which a Linux kernel introduces itself, in a
// stream of bytes.
type banner struct {
	rest  []byte // the end of what passed, where a text may have begun
	at    int64  // offset of rest in the stream
	found []bannerFind
}

type bannerFind struct {
	raw           []byte
	text, version string
	at            int64
}

func (b *banner) write(p []byte) {
	if len(b.found) >= maxBanners {
		return
	}
	// What began in the last bytes is looked at together with the first of the new ones, once all of it can be there.
	joint := append(b.rest, p[:min(len(p), bannerRoom)]...)
	whole := max(0, len(joint)-bannerRoom)
	b.search(joint, b.at, whole)
	b.at += int64(whole)
	if len(p) <= bannerRoom {
		b.rest = append(joint[:0], joint[whole:]...)
		return
	}
	whole = len(p) - bannerRoom
	b.search(p, b.at, whole)
	b.rest = append(joint[:0], p[whole:]...)
	b.at += int64(whole)
}

// Write implements io.Writer; it never fails.
func (b *banner) Write(p []byte) (int, error) {
	b.write(p)
	return len(p), nil
}

// search finds texts that begin before the limit.
func (b *banner) search(p []byte, base int64, limit int) {
	for from := 0; from < limit; {
		i := bytes.Index(p[from:], bannerStart)
		if i < 0 || from+i >= limit {
			return
		}
		from += i
		if m := bannerText.FindSubmatch(p[from:min(len(p), from+bannerRoom)]); m != nil {
			b.add(bannerFind{bytes.Clone(m[0]), string(bytes.ToValidUTF8(m[0], []byte("?"))), string(m[1]), base + int64(from)})
		}
		from += len(bannerStart)
	}
}

func (b *banner) add(f bannerFind) {
	for _, have := range b.found {
		if have.at == f.at {
			return
		}
	}
	if len(b.found) < maxBanners {
		b.found = append(b.found, f)
	}
}

// tell notes the kernel's version as a fact.
func (b *banner) tell(m *Image) {
	if b.search(b.rest, b.at, len(b.rest)); m == nil {
		return
	}
	for _, f := range b.found {
		m.Field("linux_banner", f.at, f.raw, f.text, "the kernel introduces itself")
		m.Fact(Linux, f.version, f.at+int64(len(bannerStart)), int64(len(f.version)))
	}
}
