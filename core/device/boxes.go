package device

import (
	"bytes"
	"fmt"
	"path"
	"slices"
	"strings"

	"fitcheck/core/fact"
	"fitcheck/core/tree"
)

// ReadDevices reads a source that may tell of several devices, each of which is to have a file of
// its own: rows of comma-separated values, a list of objects (JSON), an inventory of several boxes
// that nothing calls a group (RFC 8348, Redfish, the ENTITY-MIB), or the capture of one. columns
// give, for a key of a device file, the heading or the path of keys under which it stands.
func ReadDevices(file string, data []byte, columns map[string]string, rules []CaptureRule) ([]RowReading, error) {
	text := bytes.TrimLeft(bytes.TrimPrefix(data, []byte("\ufeff")), " \t\r\n")
	ext := strings.ToLower(path.Ext(file))
	switch {
	case ext == ".csv", ext == ".tsv":
		return ReadRows(file, data, columns)
	case len(text) > 0 && (text[0] == '{' || text[0] == '['):
		if rows, ok, err := objects(file, data, columns); ok || err != nil {
			return rows, err
		}
	case len(columns) > 0 && (len(text) == 0 || text[0] != '<'):
		return ReadRows(file, data, columns)
	}
	r, err := ReadSource(file, data, rules)
	if err != nil {
		if rows, err := ReadRows(file, data, columns); err == nil { // by headings that are keys
			return rows, nil
		}
		return nil, err
	}
	return r.boxes(), nil
}

// boxes are the devices that a source tells of: each member of what nothing calls a group, else
// one.
func (r *Reading) boxes() []RowReading {
	if !r.Apart {
		one := RowReading{Reading: r}
		one.call(fact.Source{Kind: fact.Capture, File: r.File})
		if one.Name == "" && r.Group != "" { // a group is called by its file
			base := path.Base(r.File)
			one.Name, one.Refused = strings.TrimSuffix(base, path.Ext(base)), ""
		}
		return []RowReading{one}
	}
	var out []RowReading
	for _, v := range r.Values {
		if v.Member == "" {
			continue // of the system as a whole: its name is no box's
		}
		i := slices.IndexFunc(out, func(o RowReading) bool { return o.Form == v.Member })
		if i < 0 {
			out = append(out, RowReading{Reading: &Reading{File: r.File, Form: v.Member}})
			i = len(out) - 1
		}
		v.Member = ""
		out[i].Values = append(out[i].Values, v)
	}
	for i := range out {
		out[i].call(out[i].Values[0].At)
		out[i].Form = r.Form
	}
	return out
}

// objects reads a JSON document that is, or holds, a list of objects of which each is a device; ok
// is false of one that is an inventory of another form.
//
// In one piece: what a document may be, case by case.
func objects(file string, data []byte, columns map[string]string) (out []RowReading, ok bool, err error) {
	text, err := decoded(file, data)
	if err != nil {
		return nil, false, err
	}
	root, err := tree.Parse("json", text)
	if err != nil {
		return nil, false, nil // it is told by whoever reads it next
	}
	list := listOf(root)
	if len(list) == 0 {
		return nil, false, nil
	}
	paths, plain := map[string]string{}, 0
	for _, o := range list {
		for _, k := range o.Keys {
			if key := strings.ToLower(k); CheckKey(key) == nil && len(columns[key]) == 0 {
				paths[key] = k
				plain++
			}
		}
	}
	for key, at := range columns {
		if err := CheckKey(key); err != nil {
			return nil, true, err
		}
		paths[key] = at
	}
	if len(columns) == 0 && plain < len(list) { // an inventory of another form
		return nil, false, nil
	}
	keys := make([]string, 0, len(paths))
	for k := range paths {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	for key, at := range columns {
		if !slices.ContainsFunc(list, func(o *tree.Node) bool { return under(o, at) != nil }) {
			return nil, true, fmt.Errorf("%s: no object has %q, which is given for %s", file, at, key)
		}
	}
	if len(list) > maxRows {
		return nil, true, fmt.Errorf("%s: it has more than %d objects; split it", file, maxRows)
	}
	for _, o := range list {
		r := RowReading{Reading: &Reading{File: file, Form: "object of an inventory"}}
		for _, key := range keys {
			n := under(o, paths[key])
			if n == nil {
				continue
			}
			all := []*tree.Node{n}
			if n.List != nil {
				all = n.List
			}
			for _, t := range all {
				if !t.IsMap() && t.List == nil && !blankText(t.Text) {
					r.take("", key, t.Text, lineOf(file, t.Line))
				}
			}
		}
		r.call(lineOf(file, o.Line))
		out = append(out, r)
	}
	return out, true, nil
}

// listOf is the list of objects that a document is, or holds under one key of its top.
func listOf(root *tree.Node) []*tree.Node {
	flat := func(n *tree.Node) bool {
		return n != nil && len(n.List) > 0 && !slices.ContainsFunc(n.List, func(o *tree.Node) bool { return !o.IsMap() })
	}
	if flat(root) {
		return root.List
	}
	var found []*tree.Node
	for _, k := range root.Keys {
		if flat(root.Of[k]) {
			if found != nil {
				return nil
			}
			found = root.Of[k].List
		}
	}
	return found
}

// under follows a path of keys, "hardware.type".
func under(n *tree.Node, at string) *tree.Node {
	if c := n.Of[at]; c != nil { // a key that holds points
		return c
	}
	for k := range strings.SplitSeq(at, ".") {
		if !n.IsMap() || n.Of[k] == nil {
			return nil
		}
		n = n.Of[k]
	}
	return n
}
