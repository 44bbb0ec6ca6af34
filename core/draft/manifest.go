package draft

import (
	"path"
	"regexp"
	"slices"
	"strings"

	"fitcheck/core/archive"
	"fitcheck/core/digest"
	"fitcheck/core/fact"
	"fitcheck/core/manifest"
	"fitcheck/core/pattern"
	"fitcheck/core/survey"
)

// Manifest says how the list of a download reads.
type Manifest struct {
	Glob, Form      string
	Guess           Guess
	Heading, Record string      // of the form lines
	Groups, Records string      // of the other forms
	GroupFields     [][2]string // fact and key
	Fields          [][2]string
}

// reader reads by it.
func (m *Manifest) reader() interface {
	Read(address string, data []byte, limits archive.Limits) *manifest.Manifest
} {
	if m.Form != "lines" {
		return manifest.Document{Form: m.Form, Groups: m.Groups, GroupFields: asMap(m.GroupFields), Records: m.Records, Fields: asMap(m.Fields)}
	}
	l := manifest.Lines{Record: regexp.MustCompile(m.Record)}
	if m.Heading != "" {
		l.Heading = regexp.MustCompile(m.Heading)
	}
	return l
}

func asMap(pairs [][2]string) map[string]string {
	out := map[string]string{}
	for _, p := range pairs {
		out[p[0]] = p[1]
	}
	return out
}

// list is a text of a package that may be its manifest.
type list struct {
	r  *reading
	it *survey.Item
}

// manifest finds how the manifests of one kind of download read: the same rule has to read that
// of each package, and the one that names the most files is taken.
func (p *Package) manifest() {
	var best *Manifest
	var bestLists []list
	most := 0
	for _, name := range listNames(p.all) {
		lists := lists(p.all, name)
		for _, m := range candidates(name, lists) {
			files := 0
			for _, l := range lists {
				got := m.reader().Read(l.it.Address, l.it.Text(), archive.DefaultLimits())
				for _, rec := range got.Records {
					if l.r.named(got.Address, rec.File) != nil {
						files += 4
					}
					files += min(6, len(rec.Claim))
				}
				files -= 2 * len(got.Problems)
			}
			if files > most {
				best, bestLists, most = m, lists, files
			}
		}
	}
	if best == nil {
		return
	}
	p.Manifest = best
	for _, l := range bestLists {
		l.r.list = l.it
		l.r.take(best.reader().Read(l.it.Address, l.it.Text(), archive.DefaultLimits()))
	}
}

// candidates are the ways in which lists may read.
func candidates(glob string, lists []list) []*Manifest {
	var out []*Manifest
	forms := []string{lists[0].it.Kind}
	if forms[0] == "text" {
		forms = []string{"csv", "ini", "lines", "yaml"}
	}
	for _, form := range forms {
		var m *Manifest
		switch form {
		case "lines":
			m = readLines(lists)
		case "csv", "ini", "json", "yaml", "xml":
			m = readTree(form, lists)
		}
		if m != nil {
			m.Glob, m.Form = "**/"+glob, form
			m.Guess = Guess{"is this the list of what a download holds?", lists[0].it.Address}
			out = append(out, m)
		}
	}
	return out
}

// listNames are the names of texts that the packages have in common, the versions in them
// replaced by "*".
func listNames(all []*reading) []string {
	var out []string
	for _, r := range all {
		for _, it := range r.s.Items {
			if it.Role == "checksums" || it.Text() == nil {
				continue
			}
			switch it.Kind {
			case "text", "json", "xml", "yaml":
				add(&out, r.globName(it))
			}
		}
	}
	return out
}

// globName is the name of an item with the version of the package in it left open.
func (r *reading) globName(it *survey.Item) string {
	name := path.Base(it.Name)
	for _, v := range []string{r.inName, r.main} {
		if v != "" && strings.Contains(name, v) {
			return strings.Replace(name, v, "*", 1)
		}
	}
	return name
}

func lists(all []*reading, name string) []list {
	var out []list
	for _, r := range all {
		for _, it := range r.s.Items {
			if it.Text() != nil && it.Role != "checksums" && r.globName(it) == name {
				out = append(out, list{r, it})
			}
		}
	}
	return out
}

// take joins the records of a manifest to the items they name.
func (r *reading) take(m *manifest.Manifest) {
	r.images = nil
	for _, rec := range m.Records {
		if it := r.named(m.Address, rec.File); it != nil {
			r.claims[it] = append(r.claims[it], rec.Claim)
			r.listed[it] = whereLine(m.Address, rec.Line)
		}
	}
}

// meanings are what keys of a manifest usually stand for; keys are compared without regard to
// case and punctuation.
var meanings = map[string]string{
	"component": "component", "role": "component", "type": "component", "kind": "component", "target": "component", "part": "component", "section": "component", "usage": "component", "purpose": "component", "comp": "component", "function": "component", "class": "component",
	"version": "version", "ver": "version", "release": "version", "rel": "version", "fwversion": "version", "swversion": "version",
	"model": "models", "models": "models", "product": "models", "products": "models", "names": "models", "device": "models", "devices": "models", "for": "models", "hwmodel": "models",
	"revision": "revisions", "revisions": "revisions", "rev": "revisions", "revs": "revisions", "hw": "revisions", "hardware": "revisions", "hwrev": "revisions", "hwrevs": "revisions", "hwrevision": "revisions", "boardrev": "revisions", "boardrevs": "revisions",
	"board": "boards", "boards": "boards", "boardid": "boards", "boardids": "boards", "compatible": "boards",
	"arch": "arch", "architecture": "arch", "cpu": "arch", "machine": "arch", "processor": "arch",
	"size": "size", "bytes": "size", "length": "size", "filesize": "size",
	"md5": "md5", "md5sum": "md5", "sha1": "sha1", "sha1sum": "sha1", "sha256": "sha256", "sha256sum": "sha256", "sha512": "sha512", "sha512sum": "sha512",
	"platform": "platform", "region": "region", "feature": "feature", "family": "family", "track": "family", "built": "built", "hypervisor": "hypervisor",
	"file": "file", "filename": "file", "path": "file", "image": "file", "name": "file",
}

var notLetters = pattern.New(`[^a-z0-9]`)

func meaningOf(key string) string {
	return meanings[notLetters.ReplaceAllString(strings.ToLower(key), "")]
}

// column is a key of a manifest, or a place in its lines, with what stands there.
type column struct {
	key    string // "" for a place
	values []string
	of     []list         // the list of each value
	items  []*survey.Item // that each value's record names; nil where that is not known
}

// digests by the number of their digits.
var digests = map[int]digest.Algorithm{32: digest.MD5, 40: digest.SHA1, 64: digest.SHA256, 128: digest.SHA512}

var (
	hexText     = pattern.New(`^[0-9A-Fa-f]+$`)
	number      = pattern.New(`^\d+$`)
	word        = pattern.New(`^[A-Za-z][A-Za-z0-9_-]*$`)
	versionWord = pattern.New(`^[A-Za-z]{0,3}[-_]?\d+(?:[._]\d+)+[\w().-]*(?: (?:build|b) ?\d+)?$|^[vVrR]\d+[\w().-]*$|^(?:19|20)\d\d[01]\d[0-3]\d$`)
	revisions   = pattern.New(`^(?:rev\.?)?[A-Za-z]{0,3}\d{0,2}(?:[-,;| ]+(?:rev\.?)?[A-Za-z]{0,3}\d{0,2})*$`)
)

// files tells whether every value names a file of its package.
func (c *column) files() bool {
	for i, v := range c.values {
		if c.of[i].r.named(c.of[i].it.Address, v) == nil {
			return false
		}
	}
	return len(c.values) > 0
}

// about is the fact that the values are about, by what they are, and where that does not tell,
// by the key; "" for none.
//
// In one piece: the order of the cases is the rule; the first that holds decides.
func (c *column) about() string {
	all := func(is func(i int, v string) bool) bool {
		some := false
		for i, v := range c.values {
			if v == "" {
				continue
			}
			if some = true; !is(i, v) {
				return false
			}
		}
		return some
	}
	if !slices.ContainsFunc(c.values, func(v string) bool { return v != "" }) {
		return ""
	}
	key := meaningOf(c.key)
	hex := func(_ int, v string) bool {
		return hexText.MatchString(v) && digests[len(v)] != "" && len(v) == len(c.values[0])
	}
	sizes := func(i int, v string) bool {
		return number.MatchString(v) && c.items[i] != nil && v == sizeText(c.items[i].Size)
	}
	switch {
	case all(hex):
		return string(digests[len(c.values[0])])
	case all(sizes), key == "size" && all(func(_ int, v string) bool { return number.MatchString(v) }):
		return "size"
	case all(func(_ int, v string) bool { return isArch(v) }):
		return "arch"
	case all(func(_ int, v string) bool {
		return strings.Contains(v, ",") && !strings.Contains(v, ", ") && boardText.MatchString(v)
	}) && (key == "boards" || key == "" || key == "models"):
		return "boards"
	case key == "boards" && all(func(_ int, v string) bool { return revisions.MatchString(v) }):
		return "revisions" // short words are revisions, identifiers of boards hold a comma
	case key == "component" && all(func(_ int, v string) bool { return modelList.MatchString(v) }):
		return "models"
	case key == "component" && !all(func(_ int, v string) bool { return word.MatchString(v) }):
		return ""
	case key == "version" && !all(func(_ int, v string) bool { return strings.ContainsAny(v, "0123456789") }):
		return ""
	case key == "revisions" && !all(func(_ int, v string) bool { return revisions.MatchString(v) }):
		if all(func(_ int, v string) bool { return modelWord.MatchString(v) }) {
			return "models"
		}
		return ""
	case key == "file" && all(func(_ int, v string) bool { return modelList.MatchString(v) && !shortRevisions.MatchString(v) }):
		return "models" // what has a name there is no file
	case key == "arch", key == "file", digest.Known(digest.Algorithm(key)):
		return ""
	case key == "" && c.key != "" && all(func(_ int, v string) bool { return componentWord.MatchString(v) }):
		return "component"
	case key == "models" && slices.ContainsFunc(c.values, func(v string) bool { return wordyModel.MatchString(v) }):
		return "model" // one of several words, which are no list
	case key != "" || c.key != "": // words that mean nothing here
		return key
	case all(func(_ int, v string) bool { return shortRevisions.MatchString(v) }):
		return "revisions"
	case all(func(_ int, v string) bool { return versionWord.MatchString(v) }):
		return "version"
	case all(func(_ int, v string) bool { return componentWord.MatchString(v) }):
		return "component"
	case all(func(_ int, v string) bool { return modelList.MatchString(v) }):
		return "models"
	case all(func(_ int, v string) bool {
		return v == strings.ToLower(v) && word.MatchString(v) && !strings.ContainsAny(v, "0123456789")
	}):
		return "component"
	case all(func(_ int, v string) bool { return revisions.MatchString(v) }):
		return "revisions"
	}
	return ""
}

var (
	boardText      = pattern.New(`^[a-z0-9_-]+,[A-Za-z0-9_.+-]+(?:[ ;|]+[a-z0-9_-]+,[A-Za-z0-9_.+-]+)*$`)
	modelWord      = pattern.New(`^[A-Z][A-Za-z]*-?\d[\w-]*$`)
	modelList      = pattern.New(`^[A-Z][A-Za-z]*-?\d[\w-]*(?:[,;| ]+[A-Z][A-Za-z]*-?\d[\w-]*)*$`)
	shortRevisions = pattern.New(`^[A-Za-z]\d{0,2}(?:[-,;/ ]+[A-Za-z]\d{0,2})*$`)
	wordyModel     = pattern.New(`^[A-Za-z][A-Za-z-]* [A-Za-z-]*\d[\w-]*$`)
	componentWord  = pattern.New(`(?i)^(?:\w*boot\w*|\w*loader|\w*ldr|bl[0-9]?|sys\w*|main\w*|os|fw|firm\w*|\w*image|kernel|rootfs|runtime|app\w*|poe\w*|radio\w*|fpga\w*|cpld|modem\w*|mcu|bmc|phy)$`)
)

// isArch tells whether a text is an architecture's name, by any of its spellings.
func isArch(text string) bool { return fact.KnownArch(text) }
