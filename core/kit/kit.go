// Package kit opens a kit: the folder with rulebooks, layouts, devices and
// packages that a check draws on.
//
//	rulebooks/*.yaml   layouts/*.yaml   devices/*.yaml   packages/
//
// Any of the folders may be missing.
package kit

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sort"
	"strings"

	"github.com/maruel/natural"

	"fitcheck/core/device"
	"fitcheck/core/image"
	"fitcheck/core/image/format"
	"fitcheck/core/layout"
	"fitcheck/core/rulebook"
	"fitcheck/core/sign"
	"fitcheck/core/spelling"
	"fitcheck/core/yamlfile"
)

// Kit is an opened kit.
type Kit struct {
	Dir       string
	Rulebooks []*rulebook.Rulebook
	// Broken are the rulebooks that cannot be used.
	Broken  []Broken
	Layouts []*layout.Layout
	// Formats are the built-in formats and the layouts.
	Formats *image.Set

	managers map[string]*device.Device // that were looked for, by name; nil where there is none
}

// OpenLayouts opens a kit without its rulebooks, for what does not need them.
func OpenLayouts(dir string) (*Kit, error) {
	k, err := open(dir)
	if err != nil {
		return nil, err
	}
	return k, errors.Join(k.readLayouts()...)
}

// Nearest is the folder itself, or the nearest one above it, that holds rulebooks/, relative to
// it; where none does, the folder itself.
func Nearest(dir string) string {
	at, err := filepath.Abs(dir)
	if err != nil {
		return dir
	}
	for name := dir; ; name = filepath.Join(name, "..") {
		if info, err := os.Stat(filepath.Join(name, "rulebooks")); err == nil && info.IsDir() {
			return name
		}
		if filepath.Dir(at) == at {
			return dir
		}
		at = filepath.Dir(at)
	}
}

func open(dir string) (*Kit, error) {
	if info, err := os.Stat(dir); err != nil {
		return nil, fmt.Errorf("the kit %s: %w; name its folder with -kit", dir, plain(err))
	} else if !info.IsDir() {
		return nil, fmt.Errorf("the kit %s is not a folder; name its folder with -kit", dir)
	}
	return &Kit{Dir: dir}, nil
}

// Open reads every rulebook of the kit. One with a fault is set aside: it stops only what
// may need it.
func Open(dir string) (*Kit, error) {
	k, err := open(dir)
	if err != nil {
		return nil, err
	}
	var all []error
	all = append(all, k.readLayouts()...)
	files, err := yamlFiles(filepath.Join(dir, "rulebooks"))
	if err != nil {
		return nil, err
	}
	for _, f := range files {
		data, err := ReadText(f)
		var rb *rulebook.Rulebook
		if err == nil {
			rb, err = rulebook.Read(k.show(f), data)
		}
		if err == nil {
			err = k.hasLayouts(rb)
		}
		if err != nil {
			k.Broken = append(k.Broken, Broken{k.show(f), err, data})
			continue
		}
		k.Rulebooks = append(k.Rulebooks, rb)
	}
	return k, errors.Join(all...)
}

// readLayouts reads every layout of the kit. One that cannot be read is a
// fault of the kit: what it describes would pass as unknown.
func (k *Kit) readLayouts() []error {
	k.Formats = format.Builtin()
	files, err := yamlFiles(filepath.Join(k.Dir, "layouts"))
	if err != nil {
		return []error{err}
	}
	var all []error
	named := map[string]string{}
	for _, f := range files {
		data, err := ReadText(f)
		var l *layout.Layout
		if err == nil {
			l, err = layout.Read(k.show(f), data)
		}
		if err == nil && named[l.Name.Text] != "" {
			err = fmt.Errorf("two layouts have the name %s: %s and %s; rename one of them", l.Name.Text, named[l.Name.Text], l.File)
		}
		if err != nil {
			all = append(all, err)
			continue
		}
		named[l.Name.Text] = l.File
		k.Layouts = append(k.Layouts, l)
		k.Formats = k.Formats.With(l.Format())
	}
	return all
}

// hasLayouts tells whether the layouts that a rulebook names are in the kit.
func (k *Kit) hasLayouts(rb *rulebook.Rulebook) error {
	var all []error
	for _, t := range rb.Layouts {
		if _, err := os.Stat(filepath.Join(k.Dir, "layouts", filepath.FromSlash(t.Text))); err != nil {
			all = append(all, fmt.Errorf("%s:%d:%d: it names the layout %s, and layouts/%s cannot be opened (%w); put it there, or take the name out",
				rb.File, t.Line, t.Column, t.Text, t.Text, plain(err)))
		}
	}
	return errors.Join(all...)
}

// show gives a file's path as it is cited: within the kit, relative to it.
func (k *Kit) show(path string) string {
	if rel, err := filepath.Rel(k.Dir, path); err == nil && filepath.IsLocal(rel) {
		return filepath.ToSlash(rel)
	}
	return path
}

func yamlFiles(dir string) ([]string, error) {
	entries, err := os.ReadDir(dir)
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", dir, plain(err))
	}
	var out []string
	for _, e := range entries {
		if ext := filepath.Ext(e.Name()); !e.IsDir() && (ext == ".yaml" || ext == ".yml") {
			out = append(out, filepath.Join(dir, e.Name()))
		}
	}
	sort.Sort(natural.StringSlice(out))
	return out, nil
}

// Key finds a key by its name in keys/, as a rulebook or an image gives it; nil
// when there is none. A key that is there and cannot be read is a fault of the
// kit.
func (k *Kit) Key(name string) (*sign.Key, error) {
	if name == "" || !filepath.IsLocal(name) {
		return nil, nil
	}
	for _, suffix := range []string{"", ".pem", ".crt", ".pub", ".asc"} {
		path := filepath.Join(k.Dir, "keys", filepath.FromSlash(name+suffix))
		if info, err := os.Stat(path); err != nil || info.IsDir() {
			continue
		}
		data, err := ReadText(path)
		if err != nil {
			return nil, err
		}
		return sign.ReadKey(k.show(path), data)
	}
	return nil, nil
}

// Device finds a device: a file, or the name of one under devices/.
func (k *Kit) Device(name string) (*device.Device, error) {
	path := name
	if inKit := filepath.Join(k.Dir, name); filepath.IsLocal(name) && filepath.Ext(name) != "" {
		if _, err := os.Stat(path); err != nil { // as the kit's own files are cited
			if _, err := os.Stat(inKit); err == nil {
				path = inKit
			}
		}
	}
	if info, err := os.Stat(path); err != nil || info.IsDir() {
		found, err := k.deviceNamed(name)
		if err != nil {
			return nil, err
		}
		path = found
	}
	data, err := ReadText(path)
	if err != nil {
		return nil, err
	}
	d, err := device.Read(k.show(path), data)
	if err == nil {
		k.findManagers(d)
	}
	return d, err
}

func (k *Kit) deviceNamed(name string) (string, error) {
	files, err := yamlFiles(filepath.Join(k.Dir, "devices"))
	if err != nil {
		return "", err
	}
	var names []string
	for _, f := range files {
		base := strings.TrimSuffix(filepath.Base(f), filepath.Ext(f))
		if base == name || filepath.Base(f) == name {
			return f, nil
		}
		names = append(names, base)
	}
	advice := "there are none in " + filepath.Join(k.Dir, "devices") + "; name a device file, or the kit with -kit"
	if len(names) > 0 {
		sort.Sort(natural.StringSlice(names))
		advice = "the kit has " + strings.Join(names, ", ")
		if near := spelling.Nearest(name, names); near != "" {
			advice = "did you mean " + near + "? " + advice
		}
	}
	return "", fmt.Errorf("there is no device file %s and no device of that name in the kit; %s", name, advice)
}

// Package finds a package: a path, or a name under packages/.
func (k *Kit) Package(name string) string {
	if _, err := os.Lstat(name); err != nil && filepath.IsLocal(name) {
		for _, inKit := range []string{filepath.Join(k.Dir, "packages", name), filepath.Join(k.Dir, name)} {
			if _, err := os.Stat(inKit); err == nil {
				return inKit
			}
		}
	}
	return name
}

// RulebookFor is the rulebook that knows a model; nil when none does. Two that
// do are a fault of the kit. So is one with a fault that may know it.
func (k *Kit) RulebookFor(model string) (*rulebook.Rulebook, error) {
	var found *rulebook.Rulebook
	for _, rb := range k.Rulebooks {
		if _, ok := rb.FindModel(model); ok && model != "" {
			if found != nil {
				return nil, fmt.Errorf("two rulebooks know the model %s: %s and %s; keep it in one of them", model, found.File, rb.File)
			}
			found = rb
		}
	}
	for _, b := range k.Broken {
		if found == nil || b.mayKnow(found, model) {
			return nil, b.Err
		}
	}
	return found, nil
}

// ReadText reads a text file of at most yamlfile.MaxBytes. Anything that is not a
// regular file is refused before it is opened.
func ReadText(path string) ([]byte, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, plain(err))
	}
	if !info.Mode().IsRegular() {
		return nil, fmt.Errorf("%s: it is not a file; give a text file", path)
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, plain(err))
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, yamlfile.MaxBytes+1))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, plain(err))
	}
	if len(data) > yamlfile.MaxBytes {
		return nil, fmt.Errorf("%s: the file is larger than the bound of one text (%d bytes)", path, yamlfile.MaxBytes)
	}
	return data, nil
}

// plain takes the operation and path off a system error.
func plain(err error) error {
	var pe *os.PathError
	if errors.As(err, &pe) {
		return pe.Err
	}
	return err
}
