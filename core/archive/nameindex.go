package archive

import (
	"fmt"
	"io"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"
	"sync"
)

// nameIndex is all that the directory of one archive lists, so that two programs
// cannot take two different things out of it: no two members may bear what some
// program takes for one name and differ, and none may lie below a link or a file.
type nameIndex struct {
	mu      sync.Mutex
	members []*member
}

// member is one line of an archive's directory.
type member struct {
	name  string
	kind  memberKind
	item  *Item  // of a file
	size  int64  // of a file
	check string // of a file: a checksum by the archive, "" for none
	// target of a link, and what else is neither a file nor a folder, in words.
	target, what string
	hard         bool // a link to another member, not to a path
}

type memberKind byte

const (
	fileMember memberKind = iota
	folderMember
	linkMember
	specialMember // a device, a pipe, a socket
)

func (r *nameIndex) add(m *member) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.members = append(r.members, m)
}

// file notes a file; check is the archive's own checksum of it.
func (r *nameIndex) file(it *Item, check string) {
	r.add(&member{name: it.Name, kind: fileMember, item: it, size: it.Size, check: check})
}

func (r *nameIndex) folder(name string) { r.add(&member{name: printable(name), kind: folderMember}) }

func (r *nameIndex) link(it *Item, target string, hard bool) {
	what := "a symbolic link"
	if hard {
		what = "a hard link"
	}
	r.add(&member{name: it.Name, kind: linkMember, item: it, target: target, what: what, hard: hard})
}

func (r *nameIndex) special(it *Item, what string) {
	r.add(&member{name: it.Name, kind: specialMember, item: it, what: what})
}

// rootFolders are what the top of a root file system holds (Filesystem Hierarchy
// Standard 3.0, section 3.2); those in the second list make one by themselves.
var (
	rootFolders   = []string{"bin", "boot", "dev", "etc", "home", "lib", "lib32", "lib64", "libx32", "media", "mnt", "opt", "overlay", "proc", "rom", "root", "run", "sbin", "srv", "sys", "tmp", "usr", "var", "www"}
	tellingRoot   = []string{"bin", "etc", "lib", "sbin", "usr", "var", "dev", "proc"}
	enoughTelling = 3
)

// top is what the top of an archive holds.
type top struct {
	folders map[string]bool
	others  bool // than those of a root file system
}

func (t *top) add(name string, file bool) {
	if t.folders == nil {
		t.folders = map[string]bool{}
	}
	first, _, deeper := strings.Cut(exactKey(name), "/")
	switch {
	case first == "":
	case deeper || !file:
		t.folders[first] = true
		t.others = t.others || !slices.Contains(rootFolders, first)
	default:
		t.others = true
	}
}

// hints tells whether there is anything that a root file system holds.
func (t *top) hints() bool {
	return slices.ContainsFunc(rootFolders, func(name string) bool { return t.folders[name] })
}

func (t *top) telling() int {
	n := 0
	for _, name := range tellingRoot {
		if t.folders[name] {
			n++
		}
	}
	return n
}

// root tells whether it is that of the files of a system as it runs.
func (t *top) root() bool { return t.telling() >= enoughTelling }

// like tells whether links, devices and names that differ in case only are as they should
// be: in a system as it runs, and in what is unpacked over one.
func (t *top) like() bool { return t.root() || t.telling() == enoughTelling-1 && !t.others }

func (r *nameIndex) rootFileSystem() bool {
	var t top
	for _, m := range r.members {
		t.add(m.name, m.kind == fileMember)
	}
	return t.like()
}

// judge tells what is wrong with the members together, once all of them have
// passed. later says that a later member is meant to replace an earlier one of its
// name, as the archives of a RAM disk are unpacked one over another.
func (r *nameIndex) judge(p *pass, later bool) {
	root := r.rootFileSystem()
	told := &reporter{p: p}
	key := sameKey
	if root {
		key = exactKey
	}
	first := r.twice(told, key, func(m *member) bool { return root && later })
	if root {
		r.countSpecial(told)
		told.end()
		return
	}
	r.below(told, key, first)
	r.tellSpecial(p, told)
	told.end()
}

// names tells what is wrong with the names together.
func (r *nameIndex) names(told *reporter, key func(string) string, replaces func(*member) bool) {
	r.below(told, key, r.twice(told, key, replaces))
}

// twice tells of members of one name that differ, and gives for each name the first of
// its members, or the last.
func (r *nameIndex) twice(told *reporter, key func(string) string, replaces func(*member) bool) map[string]*member {
	first := make(map[string]*member, len(r.members))
	for _, m := range r.members {
		k := key(m.name)
		if k == "" {
			continue
		}
		before := first[k]
		first[k] = m
		if before == nil {
			continue
		}
		if what := before.differs(m); what != "" {
			if before.name == m.name && replaces(m) {
				told.note("%s stands there twice; the later one replaces the earlier", m.name)
			} else if before.name == m.name {
				told.damaged("two entries bear the name %s and %s", m.name, what)
			} else {
				told.damaged("the entries %s and %s are one name to other programs, and %s", before.name, m.name, what)
			}
			if m.kind != linkMember && before.kind == linkMember {
				first[k] = before // so that what lies below it is seen
			}
		}
	}
	return first
}

// below tells of members that lie below a link or a file.
func (r *nameIndex) below(told *reporter, key func(string) string, first map[string]*member) {
	for _, m := range r.members {
		k := key(m.name)
		for i, levels := 0, 0; levels < maxLevels; levels++ {
			next := strings.IndexByte(k[i:], '/')
			if next < 0 {
				break
			}
			dir := k[:i+next]
			i += next + 1
			switch over := first[dir]; {
			case over == nil || over == m:
			case over.kind == linkMember:
				told.damaged("%s lies below %s, which is %s to %s: other programs write it elsewhere", m.name, over.name, over.what, over.target)
			case over.kind == fileMember:
				told.damaged("%s lies below %s, which is a file", m.name, over.name)
			}
		}
	}
}

// maxLevels is how many levels of a name are looked at for links.
const maxLevels = 64

// differs says how two members of one name differ; "" when they do not.
func (m *member) differs(o *member) string {
	switch {
	case m.kind != o.kind:
		return "one is " + m.noun() + ", the other " + o.noun()
	case m.kind == folderMember:
		return ""
	case m.kind == linkMember && m.target == o.target && m.hard == o.hard:
		return ""
	case m.kind != fileMember:
		return "differ"
	}
	a, b := m.check, o.check
	if m.item != nil && o.item != nil && m.item.sum != "" && o.item.sum != "" {
		a, b = m.item.sum, o.item.sum
	}
	if m.size != o.size || a != b {
		return "differ in content"
	}
	return ""
}

func (m *member) noun() string {
	switch m.kind {
	case fileMember:
		return "a file"
	case folderMember:
		return "a folder"
	}
	return m.what
}

// tellSpecial reports what is neither a file nor a folder: never followed, never
// written. A link that stays inside is worth knowing, one that leads out and a device
// are unsafe.
func (r *nameIndex) tellSpecial(p *pass, told *reporter) {
	reported := 0
	for _, m := range r.members {
		if m.kind == fileMember || m.kind == folderMember {
			continue
		}
		if reported++; reported > maxSpecials {
			continue
		}
		if m.kind == linkMember && m.staysInside() {
			p.w.visitor.Report(Problem{m.item.Address, Note, fmt.Sprintf("%s to %s", m.what, printable(m.target)), "it is not unpacked"})
			continue
		}
		what := m.what
		switch {
		case m.kind == linkMember && m.target == "":
			what += ", and where it leads cannot be read"
		case m.kind == linkMember:
			what += " that leads out of the package, to " + printable(m.target)
		}
		p.w.visitor.Report(Problem{m.item.Address, Unsafe, what, "it is not followed and will not be unpacked"})
	}
	if reported > maxSpecials {
		told.unsafe("and %d more links, devices and pipes", reported-maxSpecials)
	}
}

// maxTarget is how long the target of a link may be.
const maxTarget = 64 << 10

// readTarget reads where a link leads, up to the end, where a checksum may stand; "" where it is too long or cannot be read.
// Its error is damage.
func readTarget(r io.Reader) (string, error) {
	b, err := io.ReadAll(io.LimitReader(r, maxTarget+1))
	switch {
	case err != nil:
		return "", damageOnly(err)
	case len(b) > maxTarget:
		return "", nil
	}
	return string(b), nil
}

// damagedLink reports what is wrong with the content of a link. Its error ends the walk.
func (w *walker) damagedLink(it *Item, err error) error {
	if err == nil || fatal(err) {
		return err
	}
	class, what, advice := wrong(err)
	w.visitor.Report(Problem{it.Address, class, what, advice})
	return nil
}

// damageOnly passes on what is damage, and what ends the walk.
func damageOnly(err error) error {
	if class, _, _ := wrong(err); class == Damaged || fatal(err) {
		return err
	}
	return nil
}

// maxSpecials is how many links, devices and pipes of one archive are told one by one.
const maxSpecials = 100

// countSpecial tells of a root file system how many links and devices it holds.
func (r *nameIndex) countSpecial(told *reporter) {
	links, specials := 0, 0
	for _, m := range r.members {
		switch m.kind {
		case linkMember:
			links++
		case specialMember:
			specials++
		}
	}
	if links+specials > 0 {
		told.note("a root file system; its %d links and %d devices and pipes are not unpacked", links, specials)
	}
}

// staysInside tells whether a link leads to a place within the archive.
func (m *member) staysInside() bool {
	target := m.target
	if target == "" || strings.HasPrefix(target, "/") || strings.Contains(target, `\`) || drive.MatchString(target) {
		return false
	}
	if !m.hard {
		target = path.Join(path.Dir(exactKey(m.name)), target)
	}
	target = path.Clean(target)
	return target != ".." && !strings.HasPrefix(target, "../")
}

// reporter tells the faults of one kind one by one, up to a bound, then how many more.
type reporter struct {
	p    *pass
	told map[Class]int
}

const compareSources = "get the package from its maker again; do not guess which one is meant"

func (t *reporter) tell(c Class, advice, format string, args ...any) {
	if t.told == nil {
		t.told = map[Class]int{}
	}
	if t.told[c]++; t.told[c] <= maxTold {
		for i, a := range args {
			if s, ok := a.(string); ok {
				args[i] = printable(s)
			}
		}
		t.p.problem(c, fmt.Sprintf(format, args...), advice)
	}
}

func (t *reporter) damaged(format string, args ...any) {
	t.tell(Damaged, compareSources, format, args...)
}
func (t *reporter) note(format string, args ...any) { t.tell(Note, "", format, args...) }
func (t *reporter) unsafe(format string, args ...any) {
	t.tell(Unsafe, "they are not followed and will not be unpacked", format, args...)
}

func (t *reporter) end() {
	for _, c := range slices.Sorted(maps.Keys(t.told)) {
		if n := t.told[c] - maxTold; n > 0 {
			advice := ""
			if c == Damaged {
				advice = compareSources
			}
			t.p.problem(c, fmt.Sprintf("and %d more of the kind", n), advice)
		}
	}
}

// maxTold is how many faults of one kind are told one by one.
const maxTold = 8

// modeMember notes, by its mode, what is neither a file nor a folder, and tells
// whether it was that.
func (r *nameIndex) modeMember(it *Item, mode fs.FileMode, target string) bool {
	switch {
	case mode&fs.ModeSymlink != 0:
		r.link(it, target, false)
	case specialMode(mode) != "":
		r.special(it, specialMode(mode))
	default:
		return false
	}
	return true
}

// specialMode names what is neither a file nor a folder.
func specialMode(m fs.FileMode) string {
	switch {
	case m&fs.ModeSymlink != 0:
		return "a symbolic link"
	case m&fs.ModeDevice != 0:
		return "a device"
	case m&fs.ModeNamedPipe != 0:
		return "a named pipe"
	case m&fs.ModeSocket != 0:
		return "a socket"
	case m&fs.ModeIrregular != 0:
		return "something that is not a file"
	}
	return ""
}
