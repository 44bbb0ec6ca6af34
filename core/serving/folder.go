// Package serving is what of a staged folder may be given out, and who was given what: only
// files that were staged, that still have their digest, and that have not changed since.
package serving

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode"

	"github.com/maruel/natural"
	"golang.org/x/sync/errgroup"

	"fitcheck/core/manifest"
	"fitcheck/core/plan"
	"fitcheck/core/transport"
	"fitcheck/core/wording"
)

// longestName is how long a name may be that is asked for, in bytes.
const longestName = 1024

// Folder is a staged folder. Its files are checked when it is opened, and again when they
// have changed.
type Folder struct {
	Dir string
	// By is the file that says what was staged: STAGED.json, or SHA256SUMS.
	By      string
	Devices []Device
	// Changed is told of a file that is withdrawn.
	Changed func(name, why string)

	root  *os.Root
	files map[string]*item
	names []string
}

// Device is a device that the files were staged for.
type Device struct {
	Name    string
	Fetcher string        // who fetches: the device, or its manager
	Address string        // of who fetches, with the length of its prefix; "" where it is not known
	Wait    time.Duration // how long the transfer takes by the rulebook; 0 where it does not say
}

// item is a file that may be given out.
type item struct {
	name     string
	size     int64
	sha256   string
	fetchers int
	manifest bool

	mu        sync.Mutex
	seen      stamp
	withdrawn string // why
}

// stamp is what changes with a file.
type stamp struct {
	size     int64
	modified time.Time
	inode    uint64
	changed  int64 // when its inode was changed, where the system tells
}

// NotStagedError says that nothing says what of a folder was staged.
type NotStagedError struct{ Dir string }

func (e *NotStagedError) Error() string {
	return fmt.Sprintf("%s holds neither %s nor %s: nothing says what was checked; stage first: fitcheck stage -device D -into %s PACKAGE", e.Dir, plan.RecordName, plan.SumsName, e.Dir)
}

// record is STAGED.json, as far as it matters here.
type record struct {
	Fitcheck struct{ Document string }
	Devices  []struct {
		Device string
		Fetch  *struct {
			By      string
			Address string
			Wait    int `json:"wait_seconds"`
		}
	}
	Files []struct {
		Path, SHA256 string
		Size         int64
		Fetchers     int
		For          []struct{ Device, Member, Component string }
	}
}

// Open reads what was staged in a folder, and checks every file: its size and its digest.
func Open(ctx context.Context, dir string) (*Folder, error) {
	info, err := os.Stat(dir)
	switch {
	case err != nil:
		return nil, fmt.Errorf("%s: %s", dir, wording.Text(err))
	case !info.IsDir():
		return nil, fmt.Errorf("%s is not a folder; give the one that fitcheck stage wrote", dir)
	}
	root, err := os.OpenRoot(dir) // nothing outside it is ever opened, whatever a link says
	if err != nil {
		return nil, err
	}
	f := &Folder{Dir: dir, root: root, files: map[string]*item{}}
	if err := f.read(); err != nil {
		root.Close()
		return nil, err
	}
	if err := f.check(ctx); err != nil {
		root.Close()
		return nil, err
	}
	return f, nil
}

// Close ends it.
func (f *Folder) Close() error { return f.root.Close() }

const maxList = 64 << 20

func (f *Folder) text(name string) ([]byte, error) {
	r, err := f.root.Open(name)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	data, err := io.ReadAll(io.LimitReader(r, maxList+1))
	if err == nil && len(data) > maxList {
		err = fmt.Errorf("%s has more than %d bytes", name, maxList)
	}
	return data, err
}

// read takes the list of files.
func (f *Folder) read() error {
	data, err := f.text(plan.RecordName)
	if err == nil {
		f.By = plan.RecordName
		return f.readRecord(data)
	}
	if !errors.Is(err, os.ErrNotExist) {
		return fmt.Errorf("%s: %s", filepath.Join(f.Dir, plan.RecordName), wording.Text(err))
	}
	data, err = f.text(plan.SumsName)
	if errors.Is(err, os.ErrNotExist) {
		return &NotStagedError{f.Dir}
	}
	if err != nil {
		return fmt.Errorf("%s: %s", filepath.Join(f.Dir, plan.SumsName), wording.Text(err))
	}
	f.By = plan.SumsName
	for _, e := range manifest.ReadSums(plan.SumsName, data).Entries {
		if err := f.add(&item{name: path.Clean(e.File), size: -1, sha256: strings.ToLower(e.Sum.Hex), fetchers: 1}); err != nil {
			return err
		}
	}
	return f.any()
}

func (f *Folder) any() error {
	if len(f.files) == 0 {
		return fmt.Errorf("%s names no file; stage again", filepath.Join(f.Dir, f.By))
	}
	slices.SortFunc(f.names, natural.Compare)
	return nil
}

func (f *Folder) readRecord(data []byte) error {
	var r record
	if err := json.Unmarshal(data, &r); err != nil || r.Fitcheck.Document != "staged" {
		return fmt.Errorf("%s is not what fitcheck stage wrote; stage again", filepath.Join(f.Dir, plan.RecordName))
	}
	for _, d := range r.Devices {
		dev := Device{Name: d.Device, Fetcher: d.Device}
		if d.Fetch != nil {
			dev.Fetcher, dev.Address, dev.Wait = d.Fetch.By, d.Fetch.Address, time.Duration(max(0, d.Fetch.Wait))*time.Second
		}
		f.Devices = append(f.Devices, dev)
	}
	for _, x := range r.Files {
		it := &item{name: x.Path, size: x.Size, sha256: strings.ToLower(x.SHA256), fetchers: x.Fetchers, manifest: true}
		who := map[string]bool{}
		for _, u := range x.For {
			who[u.Device] = true
			it.manifest = it.manifest && u.Component == ""
		}
		if it.fetchers < 1 { // an older record gives none
			it.fetchers = max(1, len(who))
		}
		if err := f.add(it); err != nil {
			return err
		}
	}
	return f.any()
}

// add takes one file; a name that leads out of the folder is none that stage writes.
func (f *Folder) add(it *item) error {
	if !filepath.IsLocal(filepath.FromSlash(it.name)) || path.Clean(it.name) != it.name || len(it.sha256) != 64 {
		return fmt.Errorf("%s: %q with %q is no file that was staged; stage again", filepath.Join(f.Dir, f.By), it.name, it.sha256)
	}
	if _, twice := f.files[it.name]; !twice {
		f.names = append(f.names, it.name)
	}
	f.files[it.name] = it
	return nil
}

// check holds every file against its digest, on all cores. One that has another is not
// offered.
func (f *Folder) check(ctx context.Context) error {
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(runtime.GOMAXPROCS(0))
	for _, name := range f.names {
		it := f.files[name]
		group.Go(func() error {
			seen, err := f.sum(ctx, it)
			switch {
			case ctx.Err() != nil:
				return ctx.Err()
			case err != nil:
				it.withdrawn = err.Error()
			}
			it.seen, it.size = seen, max(seen.size, it.size)
			return nil
		})
	}
	return group.Wait()
}

// Withdrawn lists the files that are not given out, each with the reason.
func (f *Folder) Withdrawn() (names, why []string) {
	for _, n := range f.names {
		it := f.files[n]
		it.mu.Lock()
		if it.withdrawn != "" {
			names, why = append(names, n), append(why, it.withdrawn)
		}
		it.mu.Unlock()
	}
	return names, why
}

// sum reads a file in full: it has the size and the digest that it was staged with, and did
// not change meanwhile.
func (f *Folder) sum(ctx context.Context, it *item) (stamp, error) {
	r, err := f.root.Open(filepath.FromSlash(it.name))
	if err != nil {
		return stamp{}, errors.New(wording.Text(err))
	}
	defer r.Close()
	before, err := stampOf(r)
	switch {
	case err != nil:
		return stamp{}, err
	case it.size >= 0 && before.size != it.size:
		return stamp{}, fmt.Errorf("it has %d bytes, and %d were staged", before.size, it.size)
	}
	h := sha256.New()
	if _, err := io.Copy(h, &stoppable{ctx, r}); err != nil {
		return stamp{}, err
	}
	if got := hex.EncodeToString(h.Sum(nil)); got != it.sha256 {
		return stamp{}, fmt.Errorf("its SHA-256 is %s, and %s was staged", got, it.sha256)
	}
	after, err := stampOf(r)
	if err == nil && after != before {
		err = errors.New("it changed while it was read")
	}
	return before, err
}

type stoppable struct {
	ctx context.Context
	io.Reader
}

func (s *stoppable) Read(b []byte) (int, error) {
	if err := s.ctx.Err(); err != nil {
		return 0, err
	}
	return s.Reader.Read(b)
}

// Names lists the files, as people count.
func (f *Folder) Names() []string { return slices.Clone(f.names) }

// Size is that of a file.
func (f *Folder) Size(name string) int64 { return f.files[name].size }

// Smallest is the file with the fewest bytes of those that are offered; "" for none.
func (f *Folder) Smallest() string {
	least := ""
	for _, n := range f.names {
		if it := f.files[n]; !it.isWithdrawn() && (least == "" || it.size < f.files[least].size) {
			least = n
		}
	}
	return least
}

// SHA256 is the digest of a file, in hexadecimal.
func (f *Folder) SHA256(name string) string { return f.files[name].sha256 }

// Open implements transport.Shelf. A leading slash, or "./", says the same; anything else that is
// not the very name of a file that was staged is none.
func (f *Folder) Open(asked string) (transport.File, string, error) {
	if len(asked) > longestName {
		return nil, "", &transport.Refusal{Reason: transport.Illegal, Text: fmt.Sprintf("a name of %d bytes is none that is offered", len(asked))}
	}
	if strings.ContainsFunc(asked, func(r rune) bool { return unicode.IsControl(r) || r == unicode.ReplacementChar }) || strings.Contains(asked, "\\") || slices.Contains(strings.Split(asked, "/"), "..") {
		return nil, "", &transport.Refusal{Reason: transport.Illegal, Text: fmt.Sprintf("%q is no name that is offered", asked)}
	}
	name := strings.TrimPrefix(path.Clean("/"+asked), "/")
	it := f.files[name]
	if it == nil {
		text := fmt.Sprintf("%q was not staged", asked)
		switch {
		case name == "" || f.folder(name):
			text = fmt.Sprintf("%q is a folder, and folders are not listed", asked)
		case f.near(name) != "":
			text += fmt.Sprintf("; %s was", f.near(name))
		}
		return nil, "", &transport.Refusal{Reason: transport.NotThere, Text: text}
	}
	if err := f.still(it, nil); err != nil {
		return nil, "", err
	}
	r, err := f.root.Open(filepath.FromSlash(name))
	if err != nil {
		return nil, "", f.withdraw(it, wording.Text(err))
	}
	if err := f.still(it, r); err != nil {
		r.Close()
		return nil, "", err
	}
	return &open{r, f, it}, name, nil
}

func (f *Folder) folder(name string) bool {
	return slices.ContainsFunc(f.names, func(n string) bool { return strings.HasPrefix(n, name+"/") })
}

// near is a staged file of the same base name, or the same but for case: what the device meant.
func (f *Folder) near(name string) string {
	for _, n := range f.names {
		if strings.EqualFold(n, name) || strings.EqualFold(path.Base(n), path.Base(name)) {
			return n
		}
	}
	return ""
}

// still tells whether a file is as it was when it was checked; the error is a *Refusal. An
// open file is looked at, or, without one, what lies under the name.
func (f *Folder) still(it *item, r *os.File) error {
	it.mu.Lock()
	why, seen := it.withdrawn, it.seen
	it.mu.Unlock()
	if why != "" {
		return &transport.Refusal{Reason: transport.Withdrawn, Text: it.name + " is withdrawn: " + why}
	}
	var now stamp
	var err error
	if r != nil {
		now, err = stampOf(r)
	} else {
		var info os.FileInfo
		if info, err = f.root.Stat(filepath.FromSlash(it.name)); err == nil {
			now = stampFrom(info)
		}
	}
	switch {
	case errors.Is(err, os.ErrNotExist):
		return f.withdraw(it, "the file is gone")
	case err != nil:
		return f.withdraw(it, wording.Text(err))
	case now != seen:
		// The same bytes may have been written again: then all is well.
		again, err := f.sum(context.Background(), it)
		if err != nil {
			return f.withdraw(it, err.Error())
		}
		it.mu.Lock()
		it.seen = again
		it.mu.Unlock()
		if r != nil && again != now { // what is open is another file than what lies there now
			return &transport.Refusal{Reason: transport.Withdrawn, Text: it.name + " was replaced just now"}
		}
	}
	return nil
}

// withdraw gives a file out no more, and tells it once.
func (f *Folder) withdraw(it *item, why string) error {
	it.mu.Lock()
	first := it.withdrawn == ""
	if first {
		it.withdrawn = why
	}
	it.mu.Unlock()
	if first && f.Changed != nil {
		f.Changed(it.name, why)
	}
	return &transport.Refusal{Reason: transport.Withdrawn, Text: it.name + " is withdrawn: " + why}
}

// Look looks at every file, so that one that has changed is withdrawn before it is asked for.
func (f *Folder) Look() {
	for _, name := range f.names {
		if it := f.files[name]; !it.isWithdrawn() {
			_ = f.still(it, nil)
		}
	}
}

func (it *item) isWithdrawn() bool {
	it.mu.Lock()
	defer it.mu.Unlock()
	return it.withdrawn != ""
}

// open is a file under way.
type open struct {
	*os.File
	f  *Folder
	it *item
}

// Size implements transport.File.
func (o *open) Size() int64 { return o.it.size }

// Sound implements transport.File.
func (o *open) Sound() error { return o.f.still(o.it, o.File) }

func stampOf(r *os.File) (stamp, error) {
	info, err := r.Stat()
	if err != nil {
		return stamp{}, err
	}
	if !info.Mode().IsRegular() {
		return stamp{}, errors.New("it is not a file")
	}
	return stampFrom(info), nil
}
