package draft

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"fitcheck/core/archive"
	"fitcheck/core/manifest"
	"fitcheck/core/survey"
)

// manifests takes the manifests that read by their own keys, and looks for
// texts whose lines name files of the package.
func (r *reading) manifests() {
	for _, m := range r.s.Manifests {
		it := r.s.Find(m.Address)
		form := ""
		if it != nil {
			form = map[string]string{"json": "json", "xml": "xml", "yaml": "yaml"}[it.Kind]
			if _, f, ok := manifest.Guess(m.Address, it.Kind, it.Text(), archive.DefaultLimits()); ok {
				form = f
			}
		}
		r.take(m)
		if r.pkg.Manifest == nil && form != "" {
			r.pkg.Manifest = &Manifest{Glob: "**/" + path.Base(it.Name), Form: form, From: "its keys in " + m.Address}
		}
	}
	for _, it := range r.s.Items {
		if it.Role != "" || it.Text() == nil || r.pkg.Manifest != nil {
			continue
		}
		var g *Manifest
		switch it.Kind {
		case "text":
			g = r.guessLines(it)
		case "json", "xml", "yaml":
			g = r.guessTree(it, it.Kind)
		}
		if g != nil {
			r.pkg.Manifest = g
		}
	}
}

// take joins the records of a manifest to the items they name.
func (r *reading) take(m *manifest.Manifest) {
	for _, rec := range m.Records {
		if it := r.named(m.Address, rec.File); it != nil {
			r.claims[it] = append(r.claims[it], rec.Claim)
			r.listed[it] = fmt.Sprintf("%s:%d", m.Address, rec.Line)
		}
	}
}

// named finds the item that a list means: relative to its folder, else the
// only one of that name.
func (r *reading) named(list, file string) *survey.Item {
	level := list
	if i := strings.LastIndex(level, "/"); i > strings.LastIndex(level, "::") {
		level = level[:i+1]
	} else if i := strings.LastIndex(level, "::"); i >= 0 {
		level = level[:i+2]
	}
	if it := r.s.Find(level + path.Clean(file)); it != nil {
		return it
	}
	var found *survey.Item
	for _, it := range r.s.Items {
		if path.Base(it.Name) == path.Base(file) {
			if found != nil {
				return nil
			}
			found = it
		}
	}
	return found
}

var (
	heading   = regexp.MustCompile(`^\[([^\]]+)\]$`)
	component = regexp.MustCompile(`^[a-z][a-z0-9_-]*$`)
	hexText   = regexp.MustCompile(`^[0-9A-Fa-f]+$`)
	number    = regexp.MustCompile(`^\d+$`)
	keyed     = regexp.MustCompile(`^([a-z][a-z0-9_]*)=(\S+)$`)
)

// digests by the number of their digits.
var digests = map[int]string{32: "md5", 40: "sha1", 64: "sha256", 128: "sha512"}

// keys that words such as revs=A1,A2 use.
var keys = map[string]string{"rev": "revisions", "revs": "revisions", "revision": "revisions", "revisions": "revisions", "hw": "revisions", "arch": "arch", "board": "boards", "boards": "boards",
	"model": "models", "models": "models", "version": "version", "ver": "version", "size": "size", "sha256": "sha256", "md5": "md5", "region": "region", "platform": "platform", "feature": "feature"}

// guessLines finds the pattern of a text that lists files, a line each.
func (r *reading) guessLines(it *survey.Item) *Manifest {
	var lines [][]string
	headings := 0
	other := 0
	for l := range strings.Lines(string(it.Text())) {
		l = strings.TrimSpace(l)
		switch {
		case l == "" || strings.HasPrefix(l, "#"):
		case heading.MatchString(l):
			headings++
		case slices.ContainsFunc(strings.Fields(l), func(w string) bool { return r.named(it.Address, w) != nil }):
			lines = append(lines, strings.Fields(l))
		default:
			other++
		}
	}
	if len(lines) == 0 || other > len(lines)/2 {
		return nil
	}
	record := r.columns(it.Address, lines)
	if record == "" {
		return nil
	}
	m := &Manifest{Glob: "**/" + path.Base(it.Name), Form: "lines", Record: record, From: "its lines in " + it.Address}
	reader := manifest.Lines{Record: regexp.MustCompile(record)}
	if headings > 0 {
		m.Heading = `^\[(?P<models>[^\]]+)\]$`
		reader.Heading = regexp.MustCompile(m.Heading)
	}
	got := reader.Read(it.Address, it.Text(), archive.DefaultLimits())
	if len(got.Records) == 0 {
		return nil
	}
	r.take(got)
	return m
}

// columns makes a pattern of lines of words: what stands in the same place in
// all of them is a column; words such as revs=A1 may be left out.
func (r *reading) columns(list string, lines [][]string) string {
	width := len(lines[0])
	var extra []string // in the order in which the lines have them
	for _, l := range lines {
		n := 0
		for _, w := range l {
			if k := keyed.FindStringSubmatch(w); k != nil && keys[k[1]] != "" {
				if !slices.Contains(extra, k[1]) {
					extra = append(extra, k[1])
				}
				continue
			}
			n++
		}
		width = min(width, n)
	}
	used := map[string]bool{}
	var parts []string
	for i := range width {
		group := ""
		all := func(is func(w string) bool) bool {
			return !slices.ContainsFunc(lines, func(l []string) bool { return !is(l[i]) })
		}
		switch {
		case all(func(w string) bool { return r.named(list, w) != nil }):
			group = "file"
		case all(func(w string) bool { return hexText.MatchString(w) && digests[len(w)] != "" }):
			group = digests[len(lines[0][i])]
		case all(number.MatchString):
			group = "size"
		case all(versionWord.MatchString):
			group = "version"
		case all(component.MatchString):
			group = "component"
		}
		if group == "" || used[group] {
			parts = append(parts, `\S+`)
			continue
		}
		used[group] = true
		parts = append(parts, fmt.Sprintf(`(?P<%s>\S+)`, group))
	}
	if !used["file"] {
		return ""
	}
	pattern := "^" + strings.Join(parts, `\s+`)
	for _, k := range extra {
		if !used[keys[k]] {
			used[keys[k]] = true
			pattern += fmt.Sprintf(`(?:\s+%s=(?P<%s>\S+))?`, k, keys[k])
		}
	}
	return pattern + `(?:\s+\S+)*$`
}
