package kit

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/maruel/natural"

	"fitcheck/core/device"
	"fitcheck/core/rulebook"
)

// Devices reads devices: files, names under devices/, or folders of files.
func (k *Kit) Devices(names []string) ([]*device.Device, error) {
	var out []*device.Device
	for _, name := range globbed(k.Dir, names) {
		if info, err := os.Stat(name); err == nil && info.IsDir() {
			files, err := yamlFiles(name)
			if err != nil {
				return nil, err
			}
			if len(files) == 0 {
				return nil, fmt.Errorf("%s: the folder holds no device files (*.yaml)", name)
			}
			for _, f := range files {
				d, err := k.Device(f)
				if err != nil {
					return nil, err
				}
				out = append(out, d)
			}
			continue
		}
		d, err := k.Device(name)
		if err != nil {
			return nil, err
		}
		out = append(out, d)
	}
	return out, nil
}

// globbed expands patterns: over files, else over the names in the kit's devices/. What
// matches nothing stays as it is, and is then said not to be there.
func globbed(kit string, names []string) []string {
	var out []string
	for _, name := range names {
		if _, err := os.Stat(name); err == nil || !strings.ContainsAny(name, "*?[") {
			out = append(out, name)
			continue
		}
		found, _ := filepath.Glob(name)
		if len(found) == 0 {
			found, _ = filepath.Glob(filepath.Join(kit, "devices", name+".yaml"))
		}
		if len(found) == 0 {
			found, _ = filepath.Glob(filepath.Join(kit, "devices", name))
		}
		if len(found) == 0 {
			found = []string{name}
		}
		slices.SortFunc(found, natural.Compare)
		out = append(out, found...)
	}
	return out
}

// RulebooksFor finds the rulebooks of the models of a device and its members,
// by model; a model that none knows is not in it.
func (k *Kit) RulebooksFor(d *device.Device) (map[string]*rulebook.Rulebook, error) {
	out := map[string]*rulebook.Rulebook{}
	for _, box := range d.All() {
		rb, err := k.RulebookFor(box.Model.Text)
		if err != nil {
			return nil, err
		}
		if rb != nil {
			out[box.Model.Text] = rb
		}
	}
	return out, nil
}

// maxNested bounds how deep folders of packages may lie in each other.
const maxNested = 4

// Packages lists the packages that a name stands for: the one it names, or, for
// a folder of packages, each that lies in it. each says that every folder is
// one; otherwise a folder is when a rulebook knows the name of something in it
// as that of a download, and it is not itself an unpacked one.
func (k *Kit) Packages(name string, each bool) ([]string, error) {
	return k.packages(k.Package(name), each, 0)
}

func (k *Kit) packages(path string, each bool, depth int) ([]string, error) {
	info, err := os.Stat(path)
	if err != nil || !info.IsDir() || depth > maxNested {
		return []string{path}, nil // what is wrong with it, its survey tells
	}
	entries, err := os.ReadDir(path)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, plain(err))
	}
	if !(each && depth == 0) && !k.isShelf(path, entries) {
		return []string{path}, nil
	}
	slices.SortFunc(entries, func(a, b os.DirEntry) int { return natural.Compare(a.Name(), b.Name()) })
	var out []string
	for _, e := range entries {
		if strings.HasPrefix(e.Name(), ".") || beside(e.Name()) {
			continue
		}
		inner, err := k.packages(filepath.Join(path, e.Name()), each, depth+1)
		if err != nil {
			return nil, err
		}
		out = append(out, inner...)
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("%s: there are no packages in the folder", path)
	}
	return out, nil
}

// MayServe leaves out the packages whose names say that they are for other devices: a rulebook reads
// the name that knows none of the device's models, or says what the name stands for, and that is for
// other models or image families. What no rulebook reads may serve.
func (k *Kit) MayServe(paths []string, d *device.Device) []string {
	var own []*rulebook.Rulebook
	families := map[string]bool{}
	for _, rb := range k.Rulebooks {
		knows := false
		for _, one := range d.All() {
			if m, ok := rb.FindModel(one.Model.Text); ok && one.Model.Set() {
				knows = true
				for _, f := range m.Value.Families {
					families[f.Text] = true
				}
			}
		}
		if knows {
			own = append(own, rb)
		}
	}
	if len(own) == 0 {
		return paths
	}
	var out []string
	for _, p := range paths {
		if mayServe(filepath.Base(p), k.Rulebooks, own, families) {
			out = append(out, p)
		}
	}
	return out
}

func mayServe(name string, all, own []*rulebook.Rulebook, families map[string]bool) bool {
	read := false
	for _, rb := range all {
		for i := range rb.Packages {
			p := &rb.Packages[i]
			if !p.File.Set() || !p.File.MatchString(name) {
				continue
			}
			read = true
			if slices.Contains(own, rb) && (p.StandsFor == nil || !p.StandsFor.Family.Set() || families[p.StandsFor.Family.Text]) {
				return true
			}
		}
	}
	return !read
}

// beside tells files that accompany a download and are none.
func beside(name string) bool {
	return slices.Contains([]string{".md5", ".sha1", ".sha256", ".sha512", ".sig", ".asc", ".txt", ".pem", ".md"}, strings.ToLower(filepath.Ext(name)))
}

// isShelf tells a folder of packages from an unpacked one.
func (k *Kit) isShelf(path string, entries []os.DirEntry) bool {
	if own, err := filepath.Abs(filepath.Join(k.Dir, "packages")); err == nil {
		if p, err := filepath.Abs(path); err == nil && p == own {
			return true
		}
	}
	known := false
	for _, rb := range k.Rulebooks {
		for _, p := range rb.Packages {
			if p.File.Set() && p.File.MatchString(filepath.Base(path)) {
				return false
			}
			for _, e := range entries {
				if p.Manifest != nil && p.Manifest.Item.Match(filepath.Base(path)+"/"+e.Name()) {
					return false
				}
				known = known || p.File.Set() && p.File.MatchString(e.Name())
			}
		}
	}
	return known
}
