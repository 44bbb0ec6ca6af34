package archive

import (
	"fmt"
	"io"
	"strings"

	"fitcheck/core/content"
	"fitcheck/core/wording"
)

// isDelivery tells a cpio that somebody put files into to hand them on from one that is a
// RAM disk or the files of a system: its first member is a file beside the others, and not
// what a kernel starts first.
func isDelivery(head []byte) bool {
	n, delivery := 0, false
	content.CpioNames(head, func(name string, file bool) {
		if n++; n == 1 {
			name = strings.TrimPrefix(name, "./")
			delivery = file && !strings.Contains(name, "/") && name != "init" && name != "linuxrc"
		}
	})
	return delivery
}

func init() {
	registerKind(&kind{name: Cpio, rank: 5, tells: content.IsCpio, open: func(w *walker, p *pass, _ []byte) error { return w.cpio(p, p, 1) }})
}

// cpio visits the files of a cpio as items. levels is how deep they lie below the item.
func (w *walker) cpio(p *pass, r io.Reader, levels int) error {
	if err := w.enter(p.it, levels); err != nil {
		return err
	}
	all, i, members := &nameIndex{}, 0, &aside{w: w}
	first := map[uint64]*Item{} // by node
	found, err := content.ReadCpio(r, func(f *content.File, data io.Reader) error {
		it := p.it.child(f.Path, f.Size, levels, i)
		i++
		it.Mode = f.Mode.Perm()
		switch {
		case f.Mode.IsDir():
			all.folder(f.Path)
		case all.modeMember(it, f.Mode, f.Target):
		case data == nil:
			all.link(it, first[f.Node].Name, true)
		default:
			if err := members.item(p, it, data); err != nil {
				return err
			}
			if p.broken {
				return io.ErrUnexpectedEOF
			}
			all.file(it, "")
			if f.Links > 1 {
				first[f.Node] = it
			}
		}
		return nil
	})
	err = members.wait(err)
	all.judge(p, true)
	if err != nil {
		return p.failed(err)
	}
	p.afterCpio(found)
	return nil
}

// afterCpio tells what follows the last archive.
func (p *pass) afterCpio(found content.Cpio) {
	if found.Trailing > 0 {
		p.problem(Note, fmt.Sprintf("its end is followed by %s of something else", wording.Count(found.Trailing, "byte")), "")
	}
}

// Describe puts an error of content into words that are nobody else's.
func Describe(err error) string {
	_, what, _ := wrong(err)
	return what
}
