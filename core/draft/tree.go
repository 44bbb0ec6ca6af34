package draft

import (
	"slices"
	"strings"

	"fitcheck/core/survey"
	"fitcheck/core/tree"
)

// A manifest that is a document holds its records in a list, or in elements of one name; what
// stands around them holds for all of them.

// readTree finds how documents of one form read: where the records are, which key is what, and
// what the mappings around them say.
//
// In one piece: the forms that a document may have, one after the other.
func readTree(form string, lists []list) *Manifest {
	var roots []*tree.Node
	for _, l := range lists {
		root, err := tree.Parse(form, l.it.Text())
		if err != nil {
			return nil
		}
		roots = append(roots, root)
	}
	var at []string
	file := ""
	for i, l := range lists { // the first in which it is seen
		if at, file = l.records(form, roots[i], nil); file != "" {
			break
		}
	}
	if file == "" {
		return nil
	}
	var records, groups []element
	split := groupsOf(form, roots, at)
	for i, l := range lists {
		for _, g := range elements(element{node: roots[i], of: l}, at[:split]) {
			groups = append(groups, g)
			for _, e := range elements(g, at[split:]) {
				if n := field(e.node, file); n != nil {
					e.item = l.r.named(l.it.Address, n.Text)
				}
				if e.item != nil { // others say something of the document, or of a file that is missing
					records = append(records, e)
				}
			}
		}
	}
	if len(records) == 0 {
		return nil
	}
	m := &Manifest{Records: strings.Join(at[split:], "."), Fields: [][2]string{{"file", file}}}
	if form == "ini" || form == "csv" {
		m.Records = ""
	}
	taken := map[string]bool{"file": true}
	m.Fields = append(m.Fields, aboutOf(records, file, taken)...)
	if split > 0 {
		m.Groups = strings.Join(at[:split], ".")
		m.GroupFields = aboutOf(groups, "", taken)
	}
	if form == "ini" || form == "csv" {
		return m
	}
	// What stands further out is asked for from the top.
	for n := split; n >= 0; n-- {
		if slices.Contains(at[:n], "*") {
			continue
		}
		var around []element
		for i, l := range lists {
			around = append(around, elements(element{node: roots[i], of: l}, at[:n])...)
		}
		if n == split && len(m.Groups) > 0 || len(around) > len(lists) {
			continue
		}
		for _, p := range aboutOf(around, "", taken) {
			m.Fields = append(m.Fields, [2]string{p[0], "/" + strings.Join(append(slices.Clone(at[:n]), p[1]), ".")})
		}
	}
	return m
}

// groupsOf is how much of the path leads to the groups: the part before the records where
// several of them stand apart; 0 where none do.
func groupsOf(form string, roots []*tree.Node, at []string) int {
	if form == "ini" || form == "csv" {
		return 0
	}
	for n := len(at) - 1; n > 0; n-- {
		if at[n-1] == "*" {
			return n
		}
		if form == "xml" {
			for _, root := range roots {
				all := elements(element{node: root}, at[:n])
				if len(all) > 1 {
					return n
				}
			}
			// One alone is a group where it says for whom it is.
			for _, root := range roots {
				for _, e := range elements(element{node: root}, at[:n]) {
					if slices.ContainsFunc(e.node.Keys, func(k string) bool {
						m := meaningOf(k)
						return m == "models" || m == "revisions" || m == "boards" || m == "arch" || m == "platform"
					}) {
						return n
					}
				}
			}
		}
	}
	return 0
}

// element is a mapping of a document, and the item that it names.
type element struct {
	node *tree.Node
	of   list
	item *survey.Item
}

// elements lists the mappings at a path.
func elements(from element, at []string) []element {
	all := []*tree.Node{from.node}
	for _, p := range at {
		var next []*tree.Node
		for _, c := range all {
			switch {
			case p == "*" && c.List != nil:
				next = append(next, c.List...)
			case p == "*":
				for _, k := range c.Keys {
					e := c.Of[k]
					if e.IsMap() && e.Of[elementKey] == nil {
						e.Of[elementKey] = &tree.Node{Line: e.Line, Text: k}
					}
					next = append(next, e)
				}
			case c.Of[p] != nil && c.Of[p].Text == tree.Repeated:
				next = append(next, c.Of[p].List...)
			case c.Of[p] != nil:
				next = append(next, c.Of[p])
			}
		}
		all = next
	}
	var out []element
	for _, n := range all {
		out = append(out, element{node: n, of: from.of})
	}
	return out
}

// elementKey stands in an element of a mapping for the key that leads to it.
const elementKey = "$key"

// field is what stands under a key, or a path of keys.
func field(n *tree.Node, path string) *tree.Node {
	for k := range strings.SplitSeq(path, ".") {
		if !n.IsMap() || n.Of[k] == nil {
			return nil
		}
		n = n.Of[k]
	}
	return n
}

// records finds the path to mappings of which most name files of the package, and the key that
// does.
//
// In one piece: the forms that a document may have, one after the other.
func (l list) records(form string, n *tree.Node, at []string) (found []string, file string) {
	if n == nil || len(at) > 16 {
		return nil, ""
	}
	if len(n.List) > 0 {
		if key := l.fileKey(n.List); key != "" {
			if n.Text == tree.Repeated {
				return at, key
			}
			return append(slices.Clone(at), "*"), key
		}
	}
	var maps []*tree.Node
	for _, k := range n.Keys {
		if n.Of[k].IsMap() {
			maps = append(maps, n.Of[k])
		}
	}
	if form != "xml" && len(maps) > 0 && len(maps) == len(n.Keys) {
		if key := l.fileKey(maps); key != "" { // a mapping of records
			return append(slices.Clone(at), "*"), key
		}
	}
	for _, k := range n.Keys {
		c := n.Of[k]
		if form == "xml" && c.IsMap() {
			if key := l.fileKey([]*tree.Node{c}); key != "" { // one element alone
				return append(slices.Clone(at), k), key
			}
		}
		if found, file = l.records(form, c, append(slices.Clone(at), k)); file != "" {
			if rest := found[len(at)+1:]; form != "xml" && l.alsoAt(n, k, rest) {
				found[len(at)] = "*"
			}
			return found, file
		}
	}
	for _, c := range n.List {
		inner := append(slices.Clone(at), "*")
		if n.Text == tree.Repeated {
			inner = at
		}
		if found, file = l.records(form, c, inner); file != "" {
			return found, file
		}
	}
	return nil, ""
}

// alsoAt tells whether a mapping has records at the same path under other keys than one: then
// the keys are names, and all of them are meant.
func (l list) alsoAt(n *tree.Node, key string, rest []string) bool {
	return slices.ContainsFunc(n.Keys, func(k string) bool {
		if k == key || !n.Of[k].IsMap() || len(rest) == 0 {
			return false
		}
		var there []*tree.Node
		for _, e := range elements(element{node: n.Of[k]}, rest) {
			there = append(there, e.node)
		}
		return l.fileKey(there) != ""
	})
}

// fileKey is the key under which mappings name files of the package; one of them at least has
// to, and none may name something else there.
func (l list) fileKey(all []*tree.Node) string {
	best, most := "", 0
	for _, e := range all {
		for _, p := range paths(e, "", 0) {
			n := 0
			for _, o := range all {
				v := field(o, p)
				if v == nil || v.Text == "" {
					continue
				}
				if it := l.r.named(l.it.Address, v.Text); it == nil || it == l.it {
					if !strings.ContainsAny(v.Text, "./") && p != "$section" { // [release] is a section, too
						n = -len(all)
					}
					continue
				}
				n++
			}
			if n > most {
				best, most = p, n
			}
		}
	}
	if most*2 < len(all) && len(all) > 2 {
		return ""
	}
	return best
}

// paths are the keys of a mapping, and of the mappings in it.
func paths(n *tree.Node, at string, depth int) []string {
	if !n.IsMap() || depth > 2 {
		return nil
	}
	var out []string
	if section := n.Of[elementKey]; section != nil && at == "" {
		out = append(out, elementKey)
	}
	for _, k := range n.Keys {
		c := n.Of[k]
		switch {
		case strings.Contains(k, "."): // a path would take it for two keys
		case c.IsMap() && len(c.List) == 0:
			if c.Text != "" {
				out = append(out, at+k)
			}
			out = append(out, paths(c, at+k+".", depth+1)...)
		default:
			out = append(out, at+k)
		}
	}
	return out
}

// aboutOf lists what the keys of mappings are about, by fact; what is taken is left out, and what
// is found is taken.
func aboutOf(all []element, file string, taken map[string]bool) [][2]string {
	var keys []string
	for _, e := range all {
		for _, p := range paths(e.node, "", 0) {
			add(&keys, p)
		}
	}
	// Of several keys that may say what an image is for, the plain one first.
	slices.SortStableFunc(keys, func(a, b string) int { return rankOf(a) - rankOf(b) })
	var out [][2]string
	for _, key := range keys {
		if key == file {
			continue
		}
		c := &column{key: strings.TrimPrefix(key[strings.LastIndexByte(key, '.')+1:], "@")}
		if c.key == "$section" || c.key == elementKey {
			c.key = ""
		}
		c.fill(all, key)
		about := c.about()
		if about == "" && c.key != "" && meaningOf(c.key) == "" {
			c.key = "" // by what stands there alone
			if about = c.about(); about != "size" && about != "arch" && about != "boards" && !strings.HasPrefix(about, "sha") && about != "md5" {
				about = ""
			}
		}
		if about == "" || taken[about] {
			continue
		}
		taken[about] = true
		out = append(out, [2]string{about, key})
	}
	return out
}

// fill takes what the elements say under a key.
func (c *column) fill(all []element, key string) {
	for _, e := range all {
		n := field(e.node, key)
		if n == nil || len(n.List) > 0 && n.List[0].IsMap() {
			continue
		}
		for _, t := range textsOf(n) {
			c.values, c.of, c.items = append(c.values, t), append(c.of, e.of), append(c.items, e.item)
		}
	}
}

// rankOf puts the keys first that mean nothing else.
func rankOf(key string) int {
	switch notLetters.ReplaceAllString(strings.ToLower(key), "") {
	case "component", "role", "version", "models", "model", "revisions", "arch":
		return 0
	}
	return 1
}

func textsOf(n *tree.Node) []string {
	if n.List == nil {
		return []string{n.Text}
	}
	var out []string
	for _, c := range n.List {
		out = append(out, c.Text)
	}
	return out
}
