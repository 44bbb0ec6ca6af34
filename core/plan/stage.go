package plan

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/google/renameio/v2/maybe"

	"fitcheck/core/archive"
	"fitcheck/core/digest"
)

// What stage writes beside the files.
const (
	SumsName   = "SHA256SUMS"
	RecordName = "STAGED.json"
	tempPrefix = ".fitcheck-stage-"
)

// Staging is one run of stage.
type Staging struct {
	Dir    string
	Files  []Serving
	Record []byte // of STAGED.json
	// Replace what an earlier run staged here; what it did not stage stays.
	Replace bool
	Limits  archive.Limits
}

// Staged is what a run did.
type Staged struct {
	Written []string
	There   int // files that were there already, as they should be
	Removed []string
}

// ForeignError names files that are in the way and were not staged by an
// earlier run, or were changed since.
type ForeignError struct{ Paths []string }

func (e *ForeignError) Error() string {
	shown := e.Paths[:min(len(e.Paths), 5)]
	t := "in the way and different: " + strings.Join(shown, ", ")
	if n := len(e.Paths) - len(shown); n > 0 {
		t += fmt.Sprintf(" and %d more", n)
	}
	return t + "; nothing was written; move them away, or give another folder"
}

// Run writes the files. Everything is first written to a folder of its own,
// synced, and read again; only then are files moved to their names. A folder
// that is new or empty is put in place at once; in one that holds other things,
// files get their names one by one, each whole, the record last. A second run
// changes nothing.
func (s *Staging) Run(ctx context.Context) (*Staged, error) {
	wanted := map[string][]byte{SumsName: s.sums(), RecordName: s.Record}
	res := &Staged{}
	info, err := os.Lstat(s.Dir)
	switch {
	case err == nil && !info.IsDir():
		return nil, fmt.Errorf("%s is not a folder; give the name of a folder", s.Dir)
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		return nil, err
	}
	exists := err == nil
	if exists {
		sweep(s.Dir)
	}
	sweep(filepath.Dir(filepath.Clean(s.Dir)))
	missing, remove, err := s.compare(wanted, res)
	if err != nil {
		return nil, err
	}
	if len(missing) == 0 && len(remove) == 0 {
		return res, nil
	}
	parent := filepath.Dir(filepath.Clean(s.Dir))
	if exists { // the folder above may be another's
		parent = s.Dir
	}
	if err := os.MkdirAll(parent, 0o755); err != nil {
		return nil, err
	}
	temp, err := os.MkdirTemp(parent, fmt.Sprintf("%s%d-", tempPrefix, os.Getpid()))
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(temp)
	if err := s.write(ctx, temp, missing, wanted); err != nil {
		return nil, err
	}
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	res.Removed = remove
	for _, name := range remove {
		if err := os.Remove(filepath.Join(s.Dir, name)); err != nil {
			return nil, err
		}
		_ = os.Remove(filepath.Dir(filepath.Join(s.Dir, name))) // when it is empty now
	}
	if err := s.place(temp, missing, exists); err != nil {
		return nil, err
	}
	res.Written = missing
	return res, nil
}

// sums is the list in the form that sha256sum reads.
func (s *Staging) sums() []byte {
	var b bytes.Buffer
	for _, f := range s.Files {
		fmt.Fprintf(&b, "%s  %s\n", f.Digests.Of(digest.SHA256), f.Name)
	}
	return b.Bytes()
}

// compare finds what is to be written, and which files of an earlier run are to
// go.
func (s *Staging) compare(wanted map[string][]byte, res *Staged) (missing, remove []string, err error) {
	earlier := s.earlier()
	var foreign []string
	want := s.digests(wanted)
	// The same files with another record, from another folder perhaps: only the
	// record is written anew.
	sums, _ := digestOf(filepath.Join(s.Dir, SumsName))
	same := earlier != nil && sums == want[SumsName]
	for name, sum := range want {
		got, err := digestOf(filepath.Join(s.Dir, filepath.FromSlash(name)))
		_, own := wanted[name]
		switch {
		case errors.Is(err, fs.ErrNotExist):
			missing = append(missing, name)
		case err == nil && got == sum:
			res.There++
		case err == nil && name == RecordName && same:
			missing = append(missing, name)
		case err == nil && s.Replace && (own && earlier != nil || earlier[name] == got):
			missing = append(missing, name)
		case err == nil && own && earlier != nil:
			return nil, nil, fmt.Errorf("%s holds what was staged for something else; give another folder, or -replace", s.Dir)
		default:
			foreign = append(foreign, filepath.Join(s.Dir, filepath.FromSlash(name)))
		}
	}
	if len(foreign) > 0 {
		slices.Sort(foreign)
		return nil, nil, &ForeignError{foreign}
	}
	if s.Replace {
		remove = s.unwanted(earlier, want)
	}
	slices.Sort(missing)
	return missing, remove, nil
}

// digests are those of all files that are to be there, by their names; written are those that are made here.
func (s *Staging) digests(written map[string][]byte) map[string]string {
	out := map[string]string{}
	for name, data := range written {
		sum := sha256.Sum256(data)
		out[name] = hex.EncodeToString(sum[:])
	}
	for _, f := range s.Files {
		out[f.Name] = f.Digests.Of(digest.SHA256)
	}
	return out
}

// unwanted are the files of an earlier staging that are still as it wrote them, and belong to this one no more.
func (s *Staging) unwanted(earlier, want map[string]string) []string {
	var out []string
	for name, sum := range earlier {
		if want[name] != "" || !filepath.IsLocal(name) { // the record may have been written by anybody
			continue
		}
		if got, err := digestOf(filepath.Join(s.Dir, filepath.FromSlash(name))); err == nil && got == sum {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return out
}

// earlier lists what an earlier run staged here, with the digests; nil when
// there was none.
func (s *Staging) earlier() map[string]string {
	info, err := os.Lstat(filepath.Join(s.Dir, RecordName))
	if err != nil || !info.Mode().IsRegular() || info.Size() > 64<<20 {
		return nil
	}
	data, err := os.ReadFile(filepath.Join(s.Dir, RecordName))
	if err != nil {
		return nil
	}
	var doc struct {
		Fitcheck struct{ Document string }
		Files    []struct{ Path, SHA256 string }
	}
	if json.Unmarshal(data, &doc) != nil || doc.Fitcheck.Document != "staged" {
		return nil
	}
	out := map[string]string{}
	for _, f := range doc.Files {
		out[f.Path] = f.SHA256
	}
	return out
}

// digestOf is the SHA-256 of a regular file; of anything else it is none.
func digestOf(file string) (string, error) {
	info, err := os.Lstat(file)
	if err != nil {
		return "", err
	}
	if !info.Mode().IsRegular() {
		return "not a file", nil
	}
	f, err := os.Open(file)
	if err != nil {
		return "", err
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.Copy(h, f); err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// write writes the missing files below a folder, and reads each again.
//
// In one piece: what is written, package after package; a failure leaves nothing.
func (s *Staging) write(ctx context.Context, temp string, missing []string, wanted map[string][]byte) error {
	byPackage := map[string]map[string]*Serving{}
	for i := range s.Files {
		f := &s.Files[i]
		if !slices.Contains(missing, f.Name) {
			continue
		}
		if byPackage[f.Package] == nil {
			byPackage[f.Package] = map[string]*Serving{}
		}
		byPackage[f.Package][f.Address] = f
	}
	for pkg, items := range byPackage {
		e := &extractor{temp: temp, items: items, ctx: ctx}
		for address, f := range items {
			if f.Whole { // as it is, without opening it
				if err := e.copy(pkg, f); err != nil {
					return err
				}
				delete(items, address)
			}
		}
		if len(items) == 0 {
			continue
		}
		if err := archive.Walk(ctx, pkg, s.Limits, e); err != nil {
			return err
		}
		if e.err != nil {
			return e.err
		}
	}
	for name, data := range wanted {
		if slices.Contains(missing, name) {
			if err := maybe.WriteFile(filepath.Join(temp, name), data, 0o644); err != nil {
				return err
			}
		}
	}
	for i := range s.Files {
		f := &s.Files[i]
		if !slices.Contains(missing, f.Name) {
			continue
		}
		got, err := digestOf(filepath.Join(temp, filepath.FromSlash(f.Name)))
		if err != nil || got != f.Digests.Of(digest.SHA256) {
			return fmt.Errorf("%s does not read back as it was written (%s, and not %s); nothing was put in place: check the disk, and that nobody changes the package", f.Name, got, f.Digests.Of(digest.SHA256))
		}
	}
	return nil
}

// place moves files to their names.
func (s *Staging) place(temp string, missing []string, exists bool) error {
	if err := os.Chmod(temp, 0o755); err != nil {
		return err
	}
	if !exists {
		return os.Rename(temp, s.Dir)
	}
	// The record comes last: while it is not there, the work is not done.
	order := slices.Clone(missing)
	rank := func(name string) int { return slices.Index([]string{SumsName, RecordName}, name) }
	slices.SortStableFunc(order, func(a, b string) int { return rank(a) - rank(b) })
	for _, name := range order {
		from, to := filepath.Join(temp, filepath.FromSlash(name)), filepath.Join(s.Dir, filepath.FromSlash(name))
		if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
			return err
		}
		if err := os.Rename(from, to); err != nil {
			return err
		}
	}
	if d, err := os.Open(s.Dir); err == nil {
		_ = d.Sync()
		d.Close()
	}
	return nil
}

// sweep removes what a run that was killed has left behind: folders that bear
// the number of a process that is no more.
func sweep(dir string) {
	left, err := os.ReadDir(dir)
	if err != nil {
		return
	}
	for _, e := range left {
		rest, ok := strings.CutPrefix(e.Name(), tempPrefix)
		if !ok || !e.IsDir() {
			continue
		}
		number, _, _ := strings.Cut(rest, "-")
		if pid, err := strconv.Atoi(number); err == nil && !running(pid) {
			_ = os.RemoveAll(filepath.Join(dir, e.Name()))
		}
	}
}

// extractor writes items of one package out as they go by.
type extractor struct {
	ctx   context.Context
	temp  string
	mu    sync.Mutex
	items map[string]*Serving
	err   error
}

func (e *extractor) Report(archive.Problem) {}

func (e *extractor) Begin(it *archive.Item, _ []byte) archive.Sink {
	e.mu.Lock()
	defer e.mu.Unlock()
	f := e.items[it.Address]
	if f == nil {
		return skip{}
	}
	w, err := create(e.temp, f.Name)
	if err != nil {
		e.err = errors.Join(e.err, err)
		return skip{}
	}
	return &writing{e: e, f: w}
}

func create(temp, name string) (*os.File, error) {
	file := filepath.Join(temp, filepath.FromSlash(name))
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		return nil, err
	}
	return os.OpenFile(file, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o644)
}

func (e *extractor) copy(pkg string, f *Serving) error {
	in, err := os.Open(pkg)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := create(e.temp, f.Name)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, reading{e.ctx, in})
	if err == nil {
		err = out.Sync()
	}
	return errors.Join(err, out.Close())
}

// reading ends with the context.
type reading struct {
	ctx context.Context
	r   io.Reader
}

func (r reading) Read(p []byte) (int, error) {
	if err := r.ctx.Err(); err != nil {
		return 0, err
	}
	return r.r.Read(p)
}

type skip struct{}

func (skip) Write(p []byte) (int, error)                   { return len(p), nil }
func (skip) End(*archive.Content, []archive.Problem) error { return nil }

type writing struct {
	e *extractor
	f *os.File
}

func (w *writing) Write(p []byte) (int, error) {
	n, err := w.f.Write(p)
	if err != nil {
		return n, fmt.Errorf("%w; free some space, or stage elsewhere", err)
	}
	return n, nil
}

func (w *writing) End(_ *archive.Content, problems []archive.Problem) error {
	return errors.Join(w.f.Sync(), w.f.Close())
}
