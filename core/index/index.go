// Package index remembers, beside the user's cache, which packages of a kit fitted which devices when
// they were last looked at. It is for advice alone: no verdict rests on it, and whoever passes on
// what it says tells when that was looked at, and how to check it.
//
// A package is known by its path, size, time and inode; what was found holds for one question: the
// program, the rules of the kit and the device.
package index

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/google/renameio/v2/maybe"
)

// Outcome is what was found of a package, for one question.
type Outcome struct {
	Fits bool `json:"fits"`
	// Place orders the packages that fit: the lowest was the best.
	Place  int       `json:"place"`
	Looked time.Time `json:"looked"`
}

// entry is what is known of one package.
type entry struct {
	Stamp string             `json:"stamp"`
	Found map[string]Outcome `json:"found"` // by question
}

// Index is what is known of the packages of a kit. It is not safe for use by several goroutines;
// several programs may use one file.
type Index struct {
	file     string
	packages map[string]*entry
	changed  map[string]bool
	stamps   map[string]string   // by path
	folders  map[string][]string // names in them
}

const (
	maxFile      = 16 << 20
	maxQuestions = 64 // of one package; the oldest are forgotten
	edition      = 1
)

type document struct {
	Edition  int               `json:"edition"`
	Kit      string            `json:"kit"`
	Packages map[string]*entry `json:"packages"`
}

// Open reads what is known of a kit in the cache folder. What cannot be read is not known.
func Open(cache, kit string) *Index {
	abs, err := filepath.Abs(kit)
	if err != nil {
		abs = kit
	}
	sum := sha256.Sum256([]byte(abs))
	x := &Index{file: filepath.Join(cache, "fitcheck", "kit-"+hex.EncodeToString(sum[:8])+".json"), changed: map[string]bool{}, stamps: map[string]string{}, folders: map[string][]string{}}
	x.packages = read(x.file)
	return x
}

func read(file string) map[string]*entry {
	none := map[string]*entry{}
	f, err := os.Open(file)
	if err != nil {
		return none
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, maxFile+1))
	if err != nil || len(data) > maxFile {
		return none
	}
	var doc document
	if json.Unmarshal(data, &doc) != nil || doc.Edition != edition {
		return none
	}
	for path, e := range doc.Packages {
		if e == nil || e.Stamp == "" {
			delete(doc.Packages, path)
		}
	}
	if doc.Packages == nil {
		return none
	}
	return doc.Packages
}

// Question names what is asked of packages: by what program, under what rules, for what device.
func Question(parts ...string) string {
	sum := sha256.New()
	for _, p := range parts {
		fmt.Fprintf(sum, "%d:%s", len(p), p)
	}
	return hex.EncodeToString(sum.Sum(nil)[:12])
}

// State names the state of folders by the names, sizes and times of the files in them, so that a
// changed rule makes another question.
func State(folders ...string) string {
	var b strings.Builder
	for _, dir := range folders {
		_ = filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() {
				return nil
			}
			if info, err := d.Info(); err == nil {
				name, _ := filepath.Rel(dir, path)
				fmt.Fprintf(&b, "%s/%s %d %d\n", filepath.Base(dir), name, info.Size(), info.ModTime().UnixNano())
			}
			return nil
		})
	}
	return Question(b.String())
}

// stamp names the state of a package, and of what lies beside it under its name, such as sums and
// signatures; "" for one that is not known by those, such as a folder. It is found out once.
func (x *Index) stamp(path string) string {
	if s, ok := x.stamps[path]; ok {
		return s
	}
	info, err := os.Stat(path)
	if err != nil || !info.Mode().IsRegular() {
		return ""
	}
	parts := []string{fmt.Sprintf("%d %d %d", info.Size(), info.ModTime().UnixNano(), inode(info))}
	dir, base := filepath.Split(path)
	names := x.folder(dir)
	for i, _ := slices.BinarySearch(names, base+"."); i < len(names) && strings.HasPrefix(names[i], base+"."); i++ {
		if info, err := os.Stat(filepath.Join(dir, names[i])); err == nil {
			parts = append(parts, fmt.Sprintf("%s %d %d", names[i], info.Size(), info.ModTime().UnixNano()))
		}
	}
	x.stamps[path] = Question(parts...)
	return x.stamps[path]
}

// folder lists the names in a folder, sorted.
func (x *Index) folder(dir string) []string {
	names, ok := x.folders[dir]
	if !ok {
		entries, _ := os.ReadDir(dir)
		for _, e := range entries {
			names = append(names, e.Name())
		}
		slices.Sort(names)
		x.folders[dir] = names
	}
	return names
}

// Found is what was found of a package as it lies there now.
func (x *Index) Found(path, question string) (Outcome, bool) {
	path = absolute(path)
	e := x.packages[path]
	if e == nil || e.Stamp != x.stamp(path) {
		return Outcome{}, false
	}
	o, ok := e.Found[question]
	return o, ok
}

// Note takes what was found.
func (x *Index) Note(path, question string, o Outcome) {
	path = absolute(path)
	s := x.stamp(path)
	if s == "" {
		return
	}
	e := x.packages[path]
	if e == nil || e.Stamp != s {
		e = &entry{Stamp: s, Found: map[string]Outcome{}}
		x.packages[path] = e
	}
	if e.Found == nil {
		e.Found = map[string]Outcome{}
	}
	e.Found[question] = o
	for len(e.Found) > maxQuestions {
		oldest := slices.MinFunc(slices.Collect(maps.Keys(e.Found)), func(a, b string) int { return e.Found[a].Looked.Compare(e.Found[b].Looked) })
		delete(e.Found, oldest)
	}
	x.changed[path] = true
}

func absolute(path string) string {
	if abs, err := filepath.Abs(path); err == nil {
		return abs
	}
	return path
}

// forgetGone removes what is known of kits that are no more.
func forgetGone(dir string) {
	entries, _ := os.ReadDir(dir)
	for _, e := range entries {
		file := filepath.Join(dir, e.Name())
		if !strings.HasPrefix(e.Name(), "kit-") {
			continue
		}
		var doc struct {
			Kit string `json:"kit"`
		}
		data, err := os.ReadFile(file)
		if err != nil || json.Unmarshal(data, &doc) != nil || doc.Kit == "" {
			continue
		}
		if _, err := os.Stat(doc.Kit); errors.Is(err, fs.ErrNotExist) {
			os.Remove(file)
		}
	}
}

// Save writes what was noted, together with what another program has written meanwhile. The file is
// whole at any time; of two that write at once, one is forgotten.
func (x *Index) Save(kit string) error {
	if len(x.changed) == 0 {
		return nil
	}
	all := read(x.file)
	for path := range x.changed {
		mine := x.packages[path]
		if theirs := all[path]; theirs != nil && theirs.Stamp == mine.Stamp {
			for q, o := range theirs.Found {
				if _, ok := mine.Found[q]; !ok {
					mine.Found[q] = o
				}
			}
		}
		all[path] = mine
	}
	for path := range all {
		if _, err := os.Lstat(path); errors.Is(err, fs.ErrNotExist) {
			delete(all, path)
		}
	}
	data, err := json.Marshal(document{edition, absolute(kit), all})
	if err == nil && len(data) > maxFile { // what was found long ago is forgotten, or nothing new would ever be kept
		maps.DeleteFunc(all, func(path string, _ *entry) bool { return !x.changed[path] })
		data, err = json.Marshal(document{edition, absolute(kit), all})
	}
	if err != nil {
		return err
	}
	if len(data) > maxFile {
		return fmt.Errorf("%s: it would be longer than %d bytes", x.file, maxFile)
	}
	if err := os.MkdirAll(filepath.Dir(x.file), 0o700); err != nil {
		return err
	}
	if _, err := os.Lstat(x.file); errors.Is(err, fs.ErrNotExist) {
		forgetGone(filepath.Dir(x.file))
	}
	if err := maybe.WriteFile(x.file, data, 0o600); err != nil {
		return err
	}
	x.changed = map[string]bool{}
	return nil
}
