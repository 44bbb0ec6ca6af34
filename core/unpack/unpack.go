// Package unpack writes the items of a package out as files: safely, whole
// files only, and all of them or none.
//
// Everything is first written to a folder of its own beside the place it goes
// to. Only when the whole package has been read are the files moved to their
// names, so that nothing half-written is ever found under one, and a run that
// is broken off leaves nothing behind.
package unpack

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"fitcheck/core/archive"
	"fitcheck/core/image"
	"fitcheck/core/yamlfile"
)

// Options steer a run.
type Options struct {
	Limits  archive.Limits
	Formats *image.Set
	// Into is the folder that the files are written to.
	Into string
	// Only, where it is set, picks items by their address.
	Only yamlfile.Glob
	// Parts writes what is inside images, too.
	Parts bool
	// Contents writes the files of file systems, too.
	Contents bool
	// Replace files that differ.
	Replace  bool
	Progress *archive.Progress
}

// File is a file that was written, or was there already as it should be.
type File struct {
	Path    string // relative to the folder, with "/"
	Address string
	Size    int64
	SHA256  string
	There   bool // it was there already, with the same content
}

// Result is what a run did.
type Result struct {
	Files    []File
	Problems []archive.Problem
}

// What nested archives and images are unpacked into, beside them.
const (
	insideSuffix = ".unpacked"
	partsSuffix  = ".parts"
)

// ConflictError says that files that differ are in the way.
type ConflictError struct{ Paths []string }

func (e *ConflictError) Error() string {
	shown := e.Paths[:min(len(e.Paths), 5)]
	t := "there are different files already: " + strings.Join(shown, ", ")
	if n := len(e.Paths) - len(shown); n > 0 {
		t += fmt.Sprintf(" and %d more", n)
	}
	return t + "; nothing was written; give an empty folder, or -replace"
}

// Run unpacks a package.
func Run(ctx context.Context, source string, o Options) (*Result, error) {
	if _, err := os.Stat(source); err != nil { // before anything is created
		return nil, &archive.OpenError{Path: source, Err: err}
	}
	if err := os.MkdirAll(o.Into, 0o755); err != nil {
		return nil, &archive.OpenError{Path: o.Into, Err: err, Write: true}
	}
	root, err := os.OpenRoot(o.Into)
	if err != nil {
		return nil, &archive.OpenError{Path: o.Into, Err: err, Write: true}
	}
	defer root.Close()
	staging, err := os.MkdirTemp(o.Into, ".fitcheck-unpack-")
	if err != nil {
		return nil, &archive.OpenError{Path: o.Into, Err: err, Write: true}
	}
	defer os.RemoveAll(staging)
	u := &unpacker{o: o, root: root, staging: staging, name: archive.NameOf(source), images: map[string]bool{}, streams: map[string]bool{}}
	if err := archive.WalkShown(ctx, source, o.Limits, u, o.Progress); err != nil {
		return nil, err
	}
	files := u.names()
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	if err := u.place(files); err != nil {
		return nil, err
	}
	res := &Result{Problems: u.problems}
	for _, f := range files {
		res.Files = append(res.Files, f.File)
	}
	slices.SortStableFunc(res.Problems, func(a, b archive.Problem) int {
		return cmp.Or(cmp.Compare(a.Item, b.Item), cmp.Compare(a.What, b.What))
	})
	return res, nil
}

type unpacker struct {
	o       Options
	root    *os.Root
	staging string
	name    string

	mu       sync.Mutex
	files    []*staged
	images   map[string]bool // whose members are opened, by address
	streams  map[string]bool // what Options.Parts writes beside the compressed part that it is of, by the part's address
	problems []archive.Problem
	next     int
}

// staged is a file in the staging folder.
type staged struct {
	File
	temp  string // name in the staging folder
	order []int
	mode  fs.FileMode
}

func (u *unpacker) report(p archive.Problem) {
	u.mu.Lock()
	defer u.mu.Unlock()
	u.problems = append(u.problems, p)
}

// Report implements archive.Visitor.
func (u *unpacker) Report(p archive.Problem) { u.report(p) }

// Begin implements archive.Visitor.
func (u *unpacker) Begin(it *archive.Item, head []byte) archive.Sink {
	s := &sink{u: u, it: it, kind: u.o.Formats.Kind(head)}
	if u.o.Parts && (it.Part || it.Within) && archive.CompressionNamed(string(it.Container)) != "" {
		u.mu.Lock()
		u.streams[it.Address] = true
		u.mu.Unlock()
	}
	target, ok := u.target(it.Address)
	if !ok {
		return s // its name, or one around it, leads astray; that is reported already
	}
	wanted := u.wanted(it.Address)
	if (u.o.Parts || u.o.Contents) && it.Container == archive.None {
		s.reading = image.Begin(u.o.Formats, head, it.Size, false)
	}
	s.target = target
	if target == "" || !wanted || it.Part { // the parts are written by Options.Parts; the package file itself is not written beside itself
		return s
	}
	s.open()
	return s
}

// target is where an item goes: below the folder by its path in the package;
// what a nested archive holds goes into a folder named after it.
func (u *unpacker) target(address string) (string, bool) {
	rest, ok := strings.CutPrefix(address, u.name)
	if !ok || rest == "" {
		return "", true
	}
	u.mu.Lock()
	defer u.mu.Unlock()
	var out string
	at := u.name
	if u.images[at] {
		out = u.name + partsSuffix
	}
	for i, level := range strings.Split(strings.TrimPrefix(rest, "::"), "::") {
		clean, why := archive.SafeName(level)
		if why != "" {
			return "", false
		}
		if u.streams[at] { // what it inflates to is a file beside it, and no folder
			at, out = at+"::"+level, out+insideSuffix
			continue
		}
		if i > 0 && u.images[at] {
			out += partsSuffix
		} else if i > 0 {
			out += insideSuffix
		}
		at += "::" + level
		out = path.Join(out, clean)
	}
	return out, true
}

func (u *unpacker) wanted(address string) bool {
	if !u.o.Only.Set() {
		return true
	}
	whole := strings.ReplaceAll(address, "::", "/")
	inside := strings.TrimPrefix(whole, u.name+"/")
	return u.o.Only.Match(whole) || u.o.Only.Match(inside)
}

// sink writes one item to the staging folder.
type sink struct {
	u       *unpacker
	it      *archive.Item
	target  string
	f       *os.File
	sum     hash.Hash
	err     error
	reading *image.Reading

	kind     string
	contents contents
	members  []archive.Member
}

func (s *sink) open() {
	s.sum = sha256.New()
	s.f, s.err = s.u.temp()
}

func (u *unpacker) temp() (*os.File, error) {
	u.mu.Lock()
	u.next++
	name := fmt.Sprintf("%08d", u.next)
	u.mu.Unlock()
	return os.OpenFile(filepath.Join(u.staging, name), os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o600)
}

// Keep implements archive.Keeper.
func (s *sink) Keep() bool { return s.reading != nil && s.reading.Keep() }

func (s *sink) Write(p []byte) (int, error) {
	if s.err != nil {
		return 0, s.err
	}
	if s.reading != nil {
		s.reading.Write(p)
	}
	if s.f != nil {
		s.sum.Write(p)
		if _, err := s.f.Write(p); err != nil {
			s.err = fmt.Errorf("%w; free some space, or unpack elsewhere", err)
			return 0, s.err
		}
	}
	return len(p), nil
}

func (s *sink) End(c *archive.Content, problems []archive.Problem) error {
	broken := false
	for _, p := range problems {
		s.u.report(p)
		broken = broken || (p.Class == archive.Damaged || p.Class == archive.Unreadable) && s.it.Container == archive.None || p.Class == archive.Unsafe
	}
	if s.f != nil {
		if _, err := s.u.keep(s.f, s.sum, s.target, s.it.Address, c.Size(), s.it.Order, s.it.Mode, broken); err != nil {
			return err
		}
	}
	s.tellContents()
	if s.reading == nil || broken {
		return nil
	}
	_, m, err := s.reading.End(c)
	if err != nil || m == nil {
		return err
	}
	if s.u.o.Contents {
		if s.members, err = s.u.o.Formats.Members(m, c); err != nil {
			return err
		}
		if len(s.members) > 0 {
			s.u.mu.Lock()
			s.u.images[s.it.Address] = true
			s.u.mu.Unlock()
		}
	}
	if !s.u.o.Parts || s.it.Part || s.it.Within {
		return nil
	}
	return s.u.parts(c, m, s.target, s.it)
}

// keep closes a staged file, and notes where it goes.
func (u *unpacker) keep(f *os.File, sum hash.Hash, target, address string, size int64, order []int, mode fs.FileMode, broken bool) (*staged, error) {
	err := errors.Join(f.Sync(), f.Close())
	if err != nil {
		return nil, &archive.OpenError{Path: f.Name(), Err: err, Write: true}
	}
	if broken {
		os.Remove(f.Name())
		return nil, nil
	}
	if mode == 0 {
		mode = 0o644
	}
	u.mu.Lock()
	defer u.mu.Unlock()
	made := &staged{File{target, address, size, hex.EncodeToString(sum.Sum(nil)), false}, filepath.Base(f.Name()), order, mode&0o755 | 0o600}
	u.files = append(u.files, made)
	return made, nil
}

// parts writes what is inside an image: each part as it lies there, and once
// more inflated where it is compressed.
func (u *unpacker) parts(c *archive.Content, m *image.Image, target string, it *archive.Item) error {
	if target == "" {
		target = it.Name
	}
	if !c.Readable() {
		return nil
	}
	var members []archive.Member
	if slices.ContainsFunc(m.Parts, func(p image.Part) bool { return p.Pieces }) {
		var err error
		if members, err = u.o.Formats.Members(m, c); err != nil {
			return err
		}
	}
	named := image.Names{}
	for i, p := range m.Parts {
		called := named.Next(p.Name)
		address := it.Address + "::" + called
		if p.Size == 0 || !u.wanted(address) {
			continue
		}
		name, why := archive.SafeName(strings.ReplaceAll(called, "/", "_"))
		if why != "" {
			u.report(archive.Problem{Item: address, Class: archive.Unsafe, What: why, Advice: "it is not unpacked under this name"})
			continue
		}
		inner, problem := whole(c, &p, called, members)
		if problem != nil {
			problem.Item = address
			u.report(*problem)
			continue
		}
		deeper := &archive.Item{Address: address, Name: name, Order: append(slices.Clone(it.Order), i)}
		if err := u.partOf(inner, &p, path.Join(target+partsSuffix, name), deeper); err != nil {
			return err
		}
	}
	return nil
}

// whole is all that a part holds; called is its name among the members of its image.
func whole(c *archive.Content, p *image.Part, called string, members []archive.Member) (*archive.Content, *archive.Problem) {
	i := slices.IndexFunc(members, func(o archive.Member) bool { return o.Name == called })
	there := max(0, c.Size()-p.Offset)
	switch {
	case p.Pieces && i < 0: // the part tells of its first piece only
		return nil, &archive.Problem{Class: archive.Unreadable, What: "it lies in pieces that cannot be put together", Advice: "it is not unpacked; survey tells what is wrong with the image"}
	case p.Pieces:
		return c.Of(members[i]), nil
	case p.Offset < 0 || there < p.Size:
		return nil, &archive.Problem{Class: archive.Damaged, What: fmt.Sprintf("truncated: it announces %d bytes, and %d are there", p.Size, there), Advice: "it is not unpacked; download the package again"}
	}
	return c.Section(p.Offset, p.Size), nil
}

// partOf writes one part, what it inflates to, and what is inside of that.
func (u *unpacker) partOf(inner *archive.Content, p *image.Part, where string, it *archive.Item) error {
	if read, err := u.part(inner, where, it.Address, it.Order); err != nil || !read {
		return err
	}
	if p.Compression == "" || p.Unpacked == 0 {
		if p.Image == nil {
			return nil
		}
		return u.parts(inner, p.Image, where, it)
	}
	z, problem, err := inner.Inflate(archive.Compression(p.Compression))
	if err != nil {
		return err
	}
	defer z.Close()
	if problem != nil {
		u.report(archive.Problem{Item: it.Address, Class: problem.Class, What: "inflated: " + problem.What, Advice: "it is written as it lies there only; " + problem.Advice})
	}
	if z == nil || problem != nil {
		return nil
	}
	if read, err := u.part(z, where+insideSuffix, it.Address, append(slices.Clone(it.Order), 0)); err != nil || !read || p.Image == nil {
		return err
	}
	return u.parts(z, p.Image, where+insideSuffix, it)
}

// part writes what a part holds; read tells whether all of it could be read, and else it is told and not written.
func (u *unpacker) part(c *archive.Content, target, address string, order []int) (read bool, err error) {
	f, err := u.temp()
	if err != nil {
		return false, &archive.OpenError{Path: u.staging, Err: err, Write: true}
	}
	sum := sha256.New()
	w := &writing{w: io.MultiWriter(f, sum)}
	n, err := io.Copy(w, c.Reader(0, c.Size()))
	switch {
	case w.err != nil:
		f.Close()
		return false, &archive.OpenError{Path: f.Name(), Err: w.err, Write: true}
	case err != nil && archive.Fatal(err):
		f.Close()
		return false, err
	case err != nil:
		f.Close()
		os.Remove(f.Name())
		u.report(archive.Problem{Item: address, Class: archive.Damaged, What: archive.Describe(err), Advice: "it is not unpacked; download the package again"})
		return false, nil
	}
	_, err = u.keep(f, sum, target, address, n, order, 0, false)
	return err == nil, err
}

// names settles which file gets which name: of those that differ in case only
// or that stand in each other's way, the first that the package lists.
func (u *unpacker) names() []*staged {
	slices.SortStableFunc(u.files, func(a, b *staged) int { return slices.Compare(a.order, b.order) })
	taken := map[string]*staged{} // by name in lower case, folders included
	var out []*staged
next:
	for _, f := range u.files {
		folded := strings.ToLower(f.Path)
		if have := taken[folded]; have != nil {
			switch {
			case have.Path == f.Path && have.SHA256 == f.SHA256:
				continue // the same file, listed twice
			case have.Path == f.Path:
				u.problem(f, "another entry bears the same name, and was written")
			case strings.EqualFold(have.Path, f.Path):
				u.problem(f, fmt.Sprintf("its name differs from %s in case only, which was written", have.Path))
			default:
				u.problem(f, fmt.Sprintf("there is a folder of this name, for %s", have.Path))
			}
			continue
		}
		var above []string
		for dir := path.Dir(folded); dir != "."; dir = path.Dir(dir) {
			if have := taken[dir]; have != nil && strings.EqualFold(have.Path, dir) {
				u.problem(f, fmt.Sprintf("%s is a file, so that nothing can lie below it", have.Path))
				continue next
			}
			above = append(above, dir)
		}
		for _, dir := range above {
			if taken[dir] == nil {
				taken[dir] = f
			}
		}
		taken[folded] = f
		out = append(out, f)
	}
	return out
}

func (u *unpacker) problem(f *staged, what string) {
	u.problems = append(u.problems, archive.Problem{Item: f.Address, Class: archive.Unsafe, What: what, Advice: "this one was not; unpack it alone with -only"})
}

// place moves the files to their names, when no different one is in the way.
func (u *unpacker) place(files []*staged) error {
	var conflicts []string
	for _, f := range files {
		name := filepath.FromSlash(f.Path)
		info, err := u.root.Lstat(name)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			continue
		case err != nil && !u.o.Replace, err == nil && !info.Mode().IsRegular():
			conflicts = append(conflicts, f.Path)
			continue
		case err != nil:
			continue
		}
		same, err := u.same(name, info.Size(), f)
		if err != nil {
			return &archive.OpenError{Path: filepath.Join(u.o.Into, name), Err: err, Write: true}
		}
		if f.There = same; !same && !u.o.Replace {
			conflicts = append(conflicts, f.Path)
		}
	}
	if len(conflicts) > 0 {
		return &ConflictError{conflicts}
	}
	for _, f := range files {
		if f.There {
			continue
		}
		name := filepath.FromSlash(f.Path)
		if dir := filepath.Dir(name); dir != "." {
			if err := u.root.MkdirAll(dir, 0o755); err != nil {
				return &archive.OpenError{Path: filepath.Join(u.o.Into, dir), Err: err, Write: true}
			}
		}
		temp := filepath.Join(filepath.Base(u.staging), f.temp)
		if err := errors.Join(u.root.Chmod(temp, f.mode), u.root.Rename(temp, name)); err != nil {
			return &archive.OpenError{Path: filepath.Join(u.o.Into, name), Err: err, Write: true}
		}
	}
	return nil
}

// same tells whether a file that is there has the content that would be
// written.
func (u *unpacker) same(name string, size int64, f *staged) (bool, error) {
	if size != f.Size {
		return false, nil
	}
	r, err := u.root.Open(name)
	if err != nil {
		return false, err
	}
	defer r.Close()
	sum := sha256.New()
	if _, err := io.Copy(sum, r); err != nil {
		return false, err
	}
	return hex.EncodeToString(sum.Sum(nil)) == f.SHA256, nil
}
