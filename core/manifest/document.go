package manifest

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/archive"
	"fitcheck/core/digest"
	"fitcheck/core/fact"
	"fitcheck/core/tree"
	"fitcheck/core/wording"
)

// Document is a manifest of the forms ini, csv, json, yaml and xml: where in
// it the records are, and which key is what.
//
// A path such as "images.*" goes from key to key; "*" stands for every element
// of a list or mapping, and "$key" in an element of a mapping for its key. The
// path of a field that begins with "/" goes from the top of the document. What a
// group says holds for the records in it.
type Document struct {
	Form        string
	Groups      string
	GroupFields map[string]string // name of a fact, or of a code, to key
	Records     string
	Fields      map[string]string
	// Means turns a field and what it read into the fact that it stands for; nil takes fields
	// as they are.
	Means func(field, text string) (fact, value string)

	top *tree.Node
}

// Forms lists the forms that are documents.
func Forms() []string { return []string{"ini", "csv", "json", "yaml", "xml"} }

// Read reads a manifest of this form.
func (d Document) Read(address string, data []byte, limits archive.Limits) *Manifest {
	m := begin(address, limits)
	root, err := tree.Parse(d.Form, data)
	if err != nil {
		line := 1
		var at *tree.Error
		if errors.As(err, &at) {
			line = at.Line
		}
		m.Problems = tell(m.Problems, Problem{Line: line, What: fmt.Sprintf("it does not read as %s: %s", strings.ToUpper(d.Form), wording.Text(err)), Advice: "download the package again, or correct form: in the rulebook"})
		return m
	}
	d.top = root
	groups := []*tree.Node{root}
	if d.Groups != "" {
		if groups = walk(root, d.Groups); len(groups) == 0 {
			m.problem(1, fmt.Sprintf("there is nothing at the path %q where the rulebook expects groups", d.Groups))
		}
	}
	for _, g := range groups {
		d.group(m, g)
	}
	return m
}

func (d Document) group(m *Manifest, g *tree.Node) {
	var of Record
	of.Size = -1
	if len(d.GroupFields) > 0 {
		m.take(d, &of, g, d.GroupFields)
	}
	var records []*tree.Node
	if d.Records != "" {
		records = walk(g, d.Records)
	} else {
		records = d.find(g, 0)
	}
	if len(records) == 0 {
		where := "no list of records is found"
		if d.Records != "" {
			where = fmt.Sprintf("there is nothing at the path %q where the rulebook expects records", d.Records)
		}
		m.problem(max(1, g.Line), where)
	}
	for _, v := range records {
		if m.Refused != nil {
			return
		}
		r := Record{Line: v.Line, Size: -1, Claim: slices.Clone(of.Claim)}
		if !v.IsMap() {
			m.problem(v.Line, "a record is no mapping of keys to values")
			continue
		}
		fields := d.fields(v)
		if d.Form == "ini" && d.sectionAlone(v, fields) {
			continue
		}
		if !m.take(d, &r, v, fields) {
			continue
		}
		if r.File == "" {
			m.problem(v.Line, "the record names no file")
			continue
		}
		m.keep(r)
	}
}

// fields says which key is what: as the rulebook says, else the keys that are
// names of facts themselves.
func (d Document) fields(v *tree.Node) map[string]string {
	if len(d.Fields) > 0 {
		return d.Fields
	}
	out := map[string]string{}
	for _, k := range v.Keys {
		if name := strings.TrimPrefix(k, "@"); meaning(name) {
			out[name] = k
		}
	}
	return out
}

// sectionAlone tells a section of an INI file that is no record: it has none of the keys by
// which a record is known, and says something of the document, as [release] does.
func (d Document) sectionAlone(v *tree.Node, fields map[string]string) bool {
	for name, key := range fields {
		switch found := walk(v, key); {
		case len(found) == 0:
		case name == groupFile && key == "$section": // whose name is that of a file, or a word
			if strings.ContainsAny(found[0].Text, "./") {
				return false
			}
		case name == groupFile, name == groupSize, isDigest(name):
			return false
		}
	}
	return fields[groupFile] != ""
}

// meaning tells whether a name means something in a record.
func meaning(name string) bool {
	if name == groupFile || name == groupSize || isDigest(name) {
		return true
	}
	_, _, ok := fact.Lookup(name)
	return ok
}

// CheckFields tells whether all names that keys are given for mean something; also are further
// names that do.
func CheckFields(fields map[string]string, also ...string) error {
	for name := range fields {
		if !meaning(name) && !slices.Contains(also, name) {
			known := append(fact.Names(), groupFile, groupSize, "md5", "sha1", "sha256", "sha384", "sha512")
			slices.Sort(known)
			return fmt.Errorf("%q means nothing; a field is one of %s", name, strings.Join(known, ", "))
		}
	}
	return nil
}

// DigestsOf lists the digests that the fields give.
func (d Document) DigestsOf() []digest.Algorithm {
	var out []digest.Algorithm
	for name := range d.Fields {
		if isDigest(name) {
			out = append(out, digest.Algorithm(name))
		}
	}
	if len(d.Fields) == 0 {
		out = append(out, digest.MD5, digest.SHA1, digest.SHA512)
	}
	return out
}

// take reads the fields of a record or group; false when one makes no sense.
func (m *Manifest) take(d Document, r *Record, v *tree.Node, fields map[string]string) bool {
	names := make([]string, 0, len(fields))
	for name := range fields {
		names = append(names, name)
	}
	slices.Sort(names)
	ok := true
	for _, name := range names {
		from, path := v, fields[name]
		if top, ok := strings.CutPrefix(path, "/"); ok {
			from, path = d.top, top
		}
		for _, found := range walk(from, path) {
			for i, t := range texts(found) {
				name, text := name, t.Text
				if d.Means != nil {
					name, text = d.Means(name, text)
				}
				about, _, isFact := fact.Lookup(name)
				if isFact && i == 0 && from == v { // what a record says replaces what its group said
					r.Claim = slices.DeleteFunc(r.Claim, func(f fact.Fact) bool { return f.About == about && f.Source.Line != t.Line })
				}
				if err := m.add(r, name, text, fact.Source{Kind: fact.Manifest, File: m.Address, Line: t.Line}); err != nil {
					m.problem(t.Line, err.Error())
					ok = false
				}
			}
		}
	}
	return ok
}

// texts lists the texts of a value: one, or those of a list.
func texts(v *tree.Node) []*tree.Node {
	if v.List == nil {
		return []*tree.Node{v}
	}
	var out []*tree.Node
	for _, c := range v.List {
		if c.List == nil {
			out = append(out, c)
		}
	}
	return out
}

// walk follows a path and lists what it leads to. A list in its way is passed
// through to its elements.
func walk(v *tree.Node, path string) []*tree.Node {
	at := []*tree.Node{v}
	for _, key := range strings.Split(path, ".") {
		var next []*tree.Node
		for _, v := range at {
			next = append(next, step(v, key)...)
		}
		at = next
	}
	// What is repeated under one name stands for its elements.
	var out []*tree.Node
	for _, v := range at {
		if v.Text == tree.Repeated {
			out = append(out, v.List...)
		} else {
			out = append(out, v)
		}
	}
	return out
}

// keyOf stands, in an element of a mapping, for the key that leads to it.
const keyOf = "$key"

func step(v *tree.Node, key string) []*tree.Node {
	switch {
	case v.List != nil && key == "*":
		return v.List
	case v.List != nil:
		var out []*tree.Node
		for _, c := range v.List {
			out = append(out, step(c, key)...)
		}
		return out
	case key == "*":
		var out []*tree.Node
		for _, k := range v.Keys {
			c := v.Of[k]
			if c.IsMap() && c.Of[keyOf] == nil {
				c.Of[keyOf] = &tree.Node{Line: c.Line, Text: k}
			}
			out = append(out, c)
		}
		return out
	case v.Of[key] != nil:
		return []*tree.Node{v.Of[key]}
	}
	return nil
}

// find looks for the first list of records: of mappings that name files.
func (d Document) find(v *tree.Node, depth int) []*tree.Node {
	if v == nil || depth > tree.MaxLevels {
		return nil
	}
	isRecord := func(c *tree.Node) bool {
		if !c.IsMap() {
			return false
		}
		fields := d.fields(c)
		key, ok := fields[groupFile]
		return ok && len(walk(c, key)) > 0
	}
	if v.List != nil && slices.ContainsFunc(v.List, isRecord) {
		return v.List
	}
	var children []*tree.Node
	if v.IsMap() {
		for _, k := range v.Keys {
			children = append(children, v.Of[k])
		}
		if depth > 0 && isRecord(v) { // one record alone, as XML has it
			return []*tree.Node{v}
		}
		if slices.ContainsFunc(children, isRecord) && !slices.ContainsFunc(children, func(c *tree.Node) bool { return c.List != nil }) {
			var out []*tree.Node
			for _, c := range children {
				if isRecord(c) {
					out = append(out, c)
				}
			}
			return out
		}
	} else {
		children = v.List
	}
	for _, c := range children {
		if found := d.find(c, depth+1); found != nil {
			return found
		}
	}
	return nil
}

// Guess reads a document that no rulebook describes, by the keys that are
// names of facts. ok is false when it is not plainly a list of files.
func Guess(address, kind string, data []byte, limits archive.Limits) (m *Manifest, form string, ok bool) {
	forms := []string{kind}
	if kind == "text" {
		forms = []string{"csv", "ini", "yaml"}
	}
	for _, form := range forms {
		if !slices.Contains(Forms(), form) {
			continue
		}
		m := Document{Form: form}.Read(address, data, limits)
		if len(m.Records) > 0 && len(m.Problems) == 0 || m.Refused != nil {
			return m, form, true
		}
	}
	return nil, "", false
}
