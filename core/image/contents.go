package image

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"fitcheck/core/archive"
	"fitcheck/core/content"
	"fitcheck/core/fact"
)

// Contents is what a file system holds, and what its files tell of the system.
type Contents struct {
	// Files counts names of regular files, Devices also pipes and sockets, SetID files that
	// run with the rights of their owner or group. Bytes are those of the files, each once;
	// Depth is how many folders the deepest file lies in.
	Files, Folders, Links, Devices, SetID int
	Bytes                                 int64
	Depth                                 int
	// Facts are what its release files say, for which processor its programs are (one fact
	// for each processor), for which kernels it has modules, what is installed.
	Facts []fact.Fact
	// Partial: not all of it could be listed or read.
	Partial bool
	// List is all of it, where it was asked for, sorted by path.
	List []Listed

	address  string
	formats  *Set // that the listed files are told by; nil where none are listed
	mu       sync.Mutex
	releases int
	programs map[string]int
}

// Listed is one file, folder, link or device of a file system.
type Listed struct {
	Path     string
	Mode     fs.FileMode
	Size     int64
	UID, GID uint32
	Modified time.Time
	Kind     string // of a regular file, as the format's name
	SHA256   string // of a regular file
	Target   string // of a link
	Same     string // the first name of a file that has several
}

// NewContents makes the contents of the file system of an address. list are the formats that
// its files are told by; without them no files are listed.
func NewContents(address string, list *Set) *Contents {
	return &Contents{address: address, formats: list, programs: map[string]int{}}
}

var heads = sync.Pool{New: func() any { return bufio.NewReaderSize(nil, archive.HeadSize) }}

const (
	maxReleaseFile  = 64 << 10
	maxReleaseFiles = 16
	maxModules      = 16
	programHead     = 20 // bytes of a program that tell its processor
)

// Add takes a file; data is its content, nil where that was shown already, and is read as
// far as is needed. It may be called from several goroutines at once. Errors of the content
// are for those who read on in it.
func (c *Contents) Add(f *content.File, data io.Reader) {
	entry := Listed{Path: f.Path, Mode: f.Mode, Size: f.Size, UID: f.UID, GID: f.GID, Modified: f.Modified, Target: f.Target, Same: f.Same}
	var facts []fact.Fact
	arch := ""
	if data != nil && f.Mode.IsRegular() {
		if c.formats != nil {
			buf := heads.Get().(*bufio.Reader)
			sum := sha256.New()
			buf.Reset(io.TeeReader(data, sum))
			head, _ := buf.Peek(archive.HeadSize) // damage comes again below
			if entry.Kind = c.formats.Sniff(head).name(); len(head) == 0 {
				entry.Kind = "empty"
			}
			facts, arch = c.read(f.Path, buf)
			if _, err := buf.WriteTo(io.Discard); err == nil {
				entry.SHA256 = hex.EncodeToString(sum.Sum(nil))
			}
			buf.Reset(nil)
			heads.Put(buf)
		} else {
			facts, arch = c.read(f.Path, data)
		}
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.count(f)
	c.Facts = append(c.Facts, facts...)
	if arch != "" {
		if c.programs[arch]++; c.programs[arch] == 1 {
			src := fact.Source{Kind: fact.Content, File: c.address + "::" + f.Path, Size: programHead}
			c.Facts = append(c.Facts, fact.Fact{About: Programs, Value: arch, Source: src})
		}
	}
	if c.formats != nil {
		c.List = append(c.List, entry)
	}
}

func (c *Contents) count(f *content.File) {
	c.Depth = max(c.Depth, strings.Count(f.Path, "/"))
	switch {
	case f.Mode.IsDir():
		c.Folders++
		c.modules(f.Path)
	case f.Mode&fs.ModeSymlink != 0:
		c.Links++
	case f.Mode.IsRegular():
		c.Files++
		if f.Same == "" {
			c.Bytes += f.Size
		}
	default:
		c.Devices++
	}
	if f.Mode.IsRegular() && f.Mode&(fs.ModeSetuid|fs.ModeSetgid) != 0 {
		c.SetID++
	}
}

// modules takes the name of a folder of kernel modules for the release of the kernel.
func (c *Contents) modules(name string) {
	dir, release := path.Split(name)
	if dir != "lib/modules/" && dir != "usr/lib/modules/" || len(c.about(Modules)) >= maxModules {
		return
	}
	if !slices.ContainsFunc(c.about(Modules), func(f fact.Fact) bool { return f.Value == release }) {
		c.Facts = append(c.Facts, fact.Fact{About: Modules, Value: release, Source: fact.Source{Kind: fact.Content, File: c.address + "::" + name}})
	}
}

func (c *Contents) about(n fact.Name) []fact.Fact { return fact.Claim(c.Facts).About(n) }

// read takes what a file tells: its lines where it is a release file or the status of a
// package manager, its processor where it is a program.
func (c *Contents) read(name string, data io.Reader) (facts []fact.Fact, arch string) {
	src := fact.Source{Kind: fact.Content, File: c.address + "::" + name}
	switch {
	case IsVersionFile(name):
		c.mu.Lock()
		c.releases++
		many := c.releases > maxReleaseFiles
		c.mu.Unlock()
		if many {
			return nil, ""
		}
		text, err := io.ReadAll(io.LimitReader(data, maxReleaseFile))
		if err != nil || bytes.ContainsRune(text, 0) {
			return nil, ""
		}
		return VersionFacts(name, text, src), ""
	case packageStatus[name].field != "":
		if n := countPackages(data, packageStatus[name]); n > 0 {
			return []fact.Fact{{About: Packages, Value: fmt.Sprintf("%d by %s", n, packageStatus[name].manager), Source: src}}, ""
		}
	case IsProgram(name):
		head := make([]byte, programHead)
		n, _ := io.ReadFull(data, head)
		return nil, ProgramArch(head[:n])
	}
	return nil, ""
}

// wants tells whether a file may tell something of the system.
func wants(name string) bool {
	return IsVersionFile(name) || IsProgram(name) || packageStatus[name].field != ""
}

// status says how a package manager writes down what is installed: a record a package,
// each with a line that begins with the field.
type status struct{ manager, field string }

var packageStatus = map[string]status{
	"var/lib/dpkg/status":      {"dpkg", "Package: "},
	"usr/lib/opkg/status":      {"opkg", "Package: "},
	"var/lib/opkg/status":      {"opkg", "Package: "},
	"lib/apk/db/installed":     {"apk", "P:"},
	"usr/lib/apk/db/installed": {"apk", "P:"},
}

func countPackages(r io.Reader, s status) (n int) {
	const longest = 64 << 10
	lines := bufio.NewReaderSize(r, longest)
	for begun := true; ; {
		line, more, err := lines.ReadLine()
		if err != nil {
			return n
		}
		if begun && bytes.HasPrefix(line, []byte(s.field)) {
			n++
		}
		begun = !more
	}
}

// Empty tells whether nothing was listed.
func (c *Contents) Empty() bool { return c.Files+c.Folders+c.Links+c.Devices == 0 }

// Settle sorts what was listed and gives later names of a file its digest.
func (c *Contents) Settle() {
	sums := map[string]Listed{}
	for _, e := range c.List {
		if e.SHA256 != "" {
			sums[e.Path] = e
		}
	}
	for i := range c.List {
		if e := &c.List[i]; e.Same != "" {
			e.SHA256, e.Size, e.Kind = sums[e.Same].SHA256, sums[e.Same].Size, sums[e.Same].Kind
		}
	}
	slices.SortFunc(c.List, func(a, b Listed) int { return strings.Compare(a.Path, b.Path) })
	slices.SortStableFunc(c.Facts, func(a, b fact.Fact) int {
		return strings.Compare(string(a.About)+a.Source.File, string(b.About)+b.Source.File)
	})
}

// readContents lists the files of a file system inside an image, and reads those that tell
// something. What keeps it from listing them is a note.
func readContents(format string, c *archive.Content, m *Image) error {
	out := NewContents(c.Address(), nil)
	err := c.Files(format, func(f *content.File, open func() io.Reader) error {
		var data io.Reader
		if f.Mode.IsRegular() && wants(f.Path) {
			data = open()
		}
		out.Add(f, data)
		return nil
	})
	if archive.Fatal(err) {
		return err
	}
	out.Settle()
	if m.Facts = append(m.Facts, out.Facts...); err != nil {
		m.Note("its files cannot be listed: %s", archive.Describe(err))
		return nil
	}
	m.Contents = out
	return nil
}

// listsFiles tells whether the files of a format can be listed inside an image.
func listsFiles(format string) bool { return content.Knows(format) || format == "tar" }
