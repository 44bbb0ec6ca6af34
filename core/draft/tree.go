package draft

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"fitcheck/core/archive"
	"fitcheck/core/manifest"
	"fitcheck/core/survey"
	"fitcheck/core/tree"
)

// meanings are what keys of a manifest usually stand for.
var meanings = map[string]string{
	"component": "component", "role": "component", "type": "component", "kind": "component", "target": "component",
	"version": "version", "ver": "version", "release": "version", "model": "models", "models": "models", "product": "models", "products": "models", "names": "models",
	"revision": "revisions", "revisions": "revisions", "rev": "revisions", "revs": "revisions", "hw": "revisions", "hardware": "revisions",
	"arch": "arch", "architecture": "arch", "cpu": "arch", "machine": "arch", "size": "size", "bytes": "size", "length": "size",
	"md5": "md5", "sha1": "sha1", "sha256": "sha256", "sha512": "sha512", "platform": "platform", "region": "region", "feature": "feature", "family": "family", "built": "built",
}

// guessTree finds the records of a document that name files of the package:
// the first list of mappings of which one key does.
func (r *reading) guessTree(it *survey.Item, form string) *Manifest {
	root, err := tree.Parse(form, it.Text())
	if err != nil {
		return nil
	}
	at, file := r.records(it.Address, root, nil)
	if file == "" {
		return nil
	}
	// What stands in the mapping around the list holds for its records.
	split := 0
	for i, p := range at[:len(at)-1] {
		if p == "*" {
			split = i + 1
		}
	}
	m := &Manifest{Glob: "**/" + path.Base(it.Name), Form: form, From: "its keys in " + it.Address,
		Groups: strings.Join(at[:split], "."), Records: strings.Join(at[split:], "."), Fields: [][2]string{{"file", file}}}
	m.Fields = append(m.Fields, known(elements(root, at), file)...)
	if split > 0 {
		m.GroupFields = known(elements(root, at[:split]), "")
	}
	doc := manifest.Document{Form: form, Groups: m.Groups, GroupFields: asMap(m.GroupFields), Records: m.Records, Fields: asMap(m.Fields)}
	got := doc.Read(it.Address, it.Text(), archive.DefaultLimits())
	if len(got.Records) == 0 {
		return nil
	}
	r.take(got)
	return m
}

func asMap(pairs [][2]string) map[string]string {
	out := map[string]string{}
	for _, p := range pairs {
		out[p[0]] = p[1]
	}
	return out
}

// records finds the path to a list of mappings, and its key that names files.
func (r *reading) records(list string, n *tree.Node, at []string) (found []string, file string) {
	if n == nil || len(at) > 16 {
		return nil, ""
	}
	if len(n.List) > 0 && n.List[0].IsMap() {
		for _, key := range n.List[0].Keys {
			all := !slices.ContainsFunc(n.List, func(e *tree.Node) bool {
				return !e.IsMap() || e.Of[key] == nil || r.named(list, e.Of[key].Text) == nil
			})
			if all {
				return append(slices.Clone(at), "*"), key
			}
		}
	}
	for _, k := range n.Keys {
		if found, file = r.records(list, n.Of[k], append(slices.Clone(at), k)); file != "" {
			return found, file
		}
	}
	for _, c := range n.List {
		if found, file = r.records(list, c, append(slices.Clone(at), "*")); file != "" {
			return found, file
		}
	}
	return nil, ""
}

// elements lists the mappings at a path.
func elements(n *tree.Node, at []string) []*tree.Node {
	all := []*tree.Node{n}
	for _, p := range at {
		var next []*tree.Node
		for _, c := range all {
			if p == "*" {
				next = append(next, c.List...)
			} else if c.Of[p] != nil {
				next = append(next, c.Of[p])
			}
		}
		all = next
	}
	return all
}

// known lists the keys of mappings whose names say what they are, by fact.
func known(all []*tree.Node, but string) [][2]string {
	var out [][2]string
	taken := map[string]bool{}
	for _, e := range all {
		for _, key := range e.Keys {
			fact := meanings[strings.ToLower(key)]
			if key == "boards" || key == "board" { // identifiers hold a comma; short words are revisions
				fact = "revisions"
				if strings.Contains(fmt.Sprint(textsOf(e.Of[key])), ",") {
					fact = "boards"
				}
			}
			if fact == "" || key == but || taken[fact] || e.Of[key].IsMap() {
				continue
			}
			if len(e.Of[key].List) > 0 && e.Of[key].List[0].IsMap() {
				continue
			}
			taken[fact] = true
			out = append(out, [2]string{fact, key})
		}
	}
	return out
}

func textsOf(n *tree.Node) []string {
	out := []string{n.Text}
	for _, c := range n.List {
		out = append(out, c.Text)
	}
	return out
}
