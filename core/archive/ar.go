package archive

import (
	"bytes"
	"errors"
	"io"
	"io/fs"
	"slices"
	"strconv"
	"strings"

	"fitcheck/core/content"
)

// ar: "!<arch>\n", then members, each behind a header of 60 bytes and padded to 2.
//
//	 0  name   16 bytes: "name/" (System V, GNU), "/" and "/SYM64/" for the table of
//	           symbols, "//" for that of long names, "/123" for the one at byte 123 of
//	           it, "#1/20" for one of 20 bytes in front of the content (BSD)
//	16  time 12, owner 6, group 6, mode 8 (octal), size 10 (decimal)
//	58  "`\n"
const (
	arMagic     = "!<arch>\n"
	arHeader    = 60
	maxArNames  = 16 << 20
	maxArMember = 4 << 10 // bytes of one name
)

func init() {
	registerKind(&kind{name: Ar, rank: 3, tells: isAr, open: func(w *walker, p *pass, _ []byte) error { return w.ar(p) }})
}

func isAr(head []byte) bool { return strings.HasPrefix(string(head[:min(8, len(head))]), arMagic) }

func (w *walker) ar(p *pass) error {
	if err := w.enter(p.it, 1); err != nil {
		return err
	}
	all, members := &nameIndex{}, &aside{w: w}
	err := members.wait(w.arMembers(p, all, members))
	all.judge(p, false)
	return err
}

func (w *walker) arMembers(p *pass, all *nameIndex, members *aside) error {
	if _, err := io.CopyN(io.Discard, p, int64(len(arMagic))); err != nil {
		return p.failed(err)
	}
	long := "" // the table of long names
	for i := 0; ; i++ {
		at := p.n.Load()
		b := make([]byte, arHeader)
		n, err := io.ReadFull(p, b)
		over, unread := arEnds(p, b[:n], err)
		switch {
		case over:
			return nil
		case unread != nil:
			return p.failed(unread)
		case err != nil:
			return p.failed(err)
		}
		size, bad := strconv.ParseInt(strings.TrimSpace(string(b[48:58])), 10, 64)
		if bad != nil || size < 0 || string(b[58:]) != "`\n" {
			return p.failed(damagedf("the header of its member %d, at byte %d, makes no sense", i+1, at))
		}
		mode, _ := strconv.ParseUint(strings.TrimSpace(string(b[40:48])), 8, 32)
		end := p.n.Load() + size
		name := strings.TrimRight(string(b[:16]), " ")
		data := content.Exactly(p, size)
		name, size, err = arName(p, name, data, size, &long)
		if err != nil {
			return p.failed(wrongMember(err, i, at))
		}
		if name != "" {
			it := p.it.child(name, size, 1, i)
			it.Mode = fs.FileMode(mode).Perm()
			if err := members.item(p, it, data); err != nil {
				return err
			}
			all.file(it, "")
		}
		if data.Short {
			return p.failed(io.ErrUnexpectedEOF)
		}
		if _, err := io.CopyN(io.Discard, p, end-p.n.Load()); err != nil {
			if err == io.EOF {
				err = io.ErrUnexpectedEOF
			}
			return p.failed(err)
		}
		if size := end - at; size%2 == 1 {
			if n, err := io.CopyN(io.Discard, p, 1); n == 0 && err != io.EOF {
				return p.failed(err)
			}
		}
	}
}

// arEnds tells whether an archive ends with what was read on where a header belongs, and with what follows: with
// nothing, with the byte that fills up the last member, or with zeros, which fill up a whole block of a medium.
func arEnds(r io.Reader, b []byte, err error) (bool, error) {
	if len(b) == 0 || len(b) == 1 && b[0] == '\n' {
		return len(b) == 1 || err == io.EOF, nil
	}
	for rest := make([]byte, 4<<10); bytes.Count(b, []byte{0}) == len(b); {
		n, err := r.Read(rest)
		if b = rest[:n]; n == 0 && err != nil {
			return err == io.EOF, notEnd(err)
		}
	}
	return false, nil
}

// notEnd is an error that is none of the end.
func notEnd(err error) error {
	if err == io.EOF {
		return nil
	}
	return err
}

// What may be wrong with a name.
var errArName, errArLong = errors.New("makes no sense"), errors.New("is not in its table of long names")

func wrongMember(err error, i int, at int64) error {
	if err == errArName || err == errArLong {
		return damagedf("the name of its member %d, at byte %d, %v", i+1, at, err)
	}
	return err
}

// bsdIndexes are the names of BSD's indexes of symbols.
var bsdIndexes = []string{"__.SYMDEF", "__.SYMDEF SORTED", "__.SYMDEF_64", "__.SYMDEF_64 SORTED"}

// arName makes the name of a member of what its header says (ar(5)): GNU's table of long names, which is kept in
// long, and BSD's names in front of the content. size is then what is left of the member; the name is "" for an index.
func arName(p *pass, name string, data io.Reader, size int64, long *string) (string, int64, error) {
	switch {
	case name == "/" || name == "/SYM64/" || name == bsdIndexes[0]:
		return "", size, nil
	case name == "//":
		if size > maxArNames {
			return "", 0, &BoundError{p.it.Address, BoundText, maxArNames}
		}
		table, err := io.ReadAll(data)
		*long = string(table)
		return "", size, err
	case strings.HasPrefix(name, "#1/"):
		n, bad := strconv.ParseInt(name[3:], 10, 64)
		if bad != nil || n < 1 || n > size || n > maxArMember {
			return "", 0, errArName
		}
		text := make([]byte, n)
		_, err := io.ReadFull(data, text)
		inFront := strings.TrimRight(string(text), "\x00")
		if slices.Contains(bsdIndexes, inFront) {
			inFront = ""
		}
		return inFront, size - n, err
	case strings.HasPrefix(name, "/"):
		n, bad := strconv.Atoi(name[1:])
		if bad != nil || n < 0 || n >= len(*long) {
			return "", 0, errArLong
		}
		name, _, _ = strings.Cut((*long)[n:min(len(*long), n+maxArMember)], "\n")
	}
	return strings.TrimSuffix(name, "/"), size, nil
}
