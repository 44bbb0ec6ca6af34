package device

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"
)

// keyOrder is the order in which keys stand in a device file.
var keyOrder = []string{"kind", "name", "model", "revision", "serial", "arch", "boards", "region", "platform", "hypervisor", "family", "features", "installed", "slots",
	"storage_free", "memory", "companions", "attached", "entitled_until", "entitled", "config", "start", "files", "job", "faults", "state", "address", "managed_by", "joining", "not_together", "group", "uniform", "members", "read_from"}

// Write makes the device file of a draft. have is the text of the file that is
// updated, nil for a new one: what the draft does not speak of stays as it
// is, comments included. name is used where neither gives one.
//
// In one piece: the parts of the file in their order.
func (d *Draft) Write(name string, have []byte) ([]byte, error) {
	if err := d.bounded(); err != nil {
		return nil, err
	}
	doc := &yaml.Node{Kind: yaml.DocumentNode}
	if have != nil {
		if err := yaml.Unmarshal(have, doc); err != nil {
			return nil, err
		}
	}
	if len(doc.Content) == 0 {
		doc.Content = []*yaml.Node{{Kind: yaml.MappingNode}}
	}
	root := doc.Content[0]
	put(root, "kind", scalar("device"))
	if get(root, "name") == nil {
		put(root, "name", scalar(name))
	}
	members := map[string]*yaml.Node{"": root}
	if len(d.Members) > 0 {
		if get(root, "group") == nil {
			put(root, "group", scalar(d.Group))
		}
		list := get(root, "members")
		if list == nil {
			list = &yaml.Node{Kind: yaml.SequenceNode}
			put(root, "members", list)
		}
		for _, n := range list.Content {
			if t := get(n, "name"); t != nil {
				members[t.Value] = n
			}
		}
		for _, m := range d.Members {
			if members[m] == nil {
				members[m] = &yaml.Node{Kind: yaml.MappingNode}
				list.Content = append(list.Content, members[m])
			}
		}
	}
	replaced := map[*yaml.Node]map[string]bool{} // whose slots and files are written anew
	for _, f := range d.Findings {
		d.put(members[f.Member], f, replaced)
	}
	for at, lists := range replaced {
		for list := range lists {
			dropSources(at, list)
		}
	}
	d.remarks(root)
	var b bytes.Buffer
	e := yaml.NewEncoder(&b)
	e.SetIndent(2)
	if err := e.Encode(doc); err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}

// bounded refuses what would be more than a device file may hold.
func (d *Draft) bounded() error {
	if n := len(d.Members); n > maxMembers {
		return fmt.Errorf("the sources speak of %d members, and a device file holds at most %d; give the sources of one group at a time", n, maxMembers)
	}
	keysOf := map[string]int{"files": len(fileKeys)}
	of := map[[2]string]int{}
	for _, f := range d.Findings {
		head, _, _ := strings.Cut(f.Key, ".")
		at := [2]string{f.Member, head}
		if of[at] += len(f.Values); of[at] > max(3, keysOf[head])*maxEntries {
			return fmt.Errorf("the sources give more than %d entries for %s; give those of one device alone", maxEntries, label(f.Member, head))
		}
	}
	return nil
}

// put writes one finding and where it was read.
func (d *Draft) put(at *yaml.Node, f Finding, replaced map[*yaml.Node]map[string]bool) {
	v := f.Values[0]
	head, rest, nested := strings.Cut(f.Key, ".")
	from := f.Key
	switch {
	case isList(f.Key):
		put(at, f.Key, listNode(f.Values))
	case head == "slots" || head == "files":
		from = head + "." + putEntry(at, head, rest, v.Text, replaced)
	case nested:
		of := get(at, head)
		if of == nil {
			of = &yaml.Node{Kind: yaml.MappingNode, Style: yaml.FlowStyle}
			put(at, head, of)
		}
		put(of, rest, plain(f.Key, v.Text))
	default:
		put(at, f.Key, plain(f.Key, v.Text))
	}
	if f.Key == "name" && f.Member != "" {
		return // it is the member's handle
	}
	where := v.At.Where()
	if f.Guess() {
		where += GuessMark
	}
	sources := get(at, "read_from")
	if sources == nil {
		sources = &yaml.Node{Kind: yaml.MappingNode}
		put(at, "read_from", sources)
	}
	put(sources, from, scalar(where))
}

// listNode makes the node of a list.
func listNode(values []Value) *yaml.Node {
	list := &yaml.Node{Kind: yaml.SequenceNode, Style: yaml.FlowStyle}
	for _, v := range values {
		if len(v.More) == 0 {
			list.Content = append(list.Content, scalar(v.Text))
			continue
		}
		entry := &yaml.Node{Kind: yaml.MappingNode, Style: yaml.FlowStyle}
		for _, key := range []string{"name", "model", "serial", "main"} {
			if t := v.More[key]; t != "" {
				entry.Content = append(entry.Content, scalar(key), scalar(t))
			} else if key == "model" {
				entry.Content = append(entry.Content, scalar(key), scalar(v.Text))
			}
		}
		list.Content = append(list.Content, entry)
	}
	return list
}

// putEntry puts a value into an entry of slots or files, whose name is in front of the last dot of rest, and
// gives that name. What the list held before is replaced once.
func putEntry(at *yaml.Node, head, rest, text string, replaced map[*yaml.Node]map[string]bool) (name string) {
	dot := strings.LastIndexByte(rest, '.')
	name, what := rest[:dot], rest[dot+1:]
	handle := map[string]string{"slots": "name", "files": "file"}[head]
	list := get(at, head)
	if list == nil || !replaced[at][head] {
		list = &yaml.Node{Kind: yaml.SequenceNode}
		put(at, head, list)
		if replaced[at] == nil {
			replaced[at] = map[string]bool{}
		}
		replaced[at][head] = true
	}
	var entry *yaml.Node
	for _, n := range list.Content {
		if t := get(n, handle); t != nil && t.Value == name {
			entry = n
		}
	}
	if entry == nil {
		entry = &yaml.Node{Kind: yaml.MappingNode, Style: yaml.FlowStyle, Content: []*yaml.Node{scalar(handle), scalar(name)}}
		list.Content = append(list.Content, entry)
	}
	switch {
	case what == handle:
	case what == "active" || what == "next":
		if text == "true" {
			put(entry, what, &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!bool", Value: "true"})
		}
	case what == "size":
		put(entry, what, &yaml.Node{Kind: yaml.ScalarNode, Value: text})
	default:
		put(entry, what, scalar(text))
	}
	return name
}

// plain makes the node of a value: a yes or no, a day or a size stand without quotes, whatever else a
// reader of YAML would take them for.
func plain(key, text string) *yaml.Node {
	switch key {
	case "config.saved", "start.saved", "entitled.active":
		return &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!bool", Value: text}
	case "config.backed_up", "entitled.from", "entitled.until", "entitled_until", "storage_free", "memory":
		return &yaml.Node{Kind: yaml.ScalarNode, Value: text}
	}
	return scalar(text)
}

// remarks writes what a person must still settle at the top of the file.
func (d *Draft) remarks(root *yaml.Node) {
	var lines []string
	for _, c := range d.Contradictions {
		lines = append(lines, fmt.Sprintf("# CONTRADICTION, %s is left out: %s", c.Label(), c.Text()))
	}
	for _, f := range d.Findings {
		if f.Guess() {
			lines = append(lines, fmt.Sprintf("# GUESS, confirm or correct it: %s is %s (%s)", f.Label(), f.Values[0].Text, f.Values[0].At))
		}
	}
	for i, l := range lines {
		lines[i] = strings.Map(func(r rune) rune {
			if r < 0x20 || r == 0x7f || r == 0x85 || r == 0x2028 || r == 0x2029 {
				return ' '
			}
			return r
		}, l)
	}
	first := root.Content[0]
	kept := slices.DeleteFunc(strings.Split(first.HeadComment, "\n"), func(l string) bool { // of an earlier run
		return l == "" || strings.HasPrefix(l, "# CONTRADICTION, ") || strings.HasPrefix(l, "# GUESS, ")
	})
	first.HeadComment = strings.Join(append(lines, kept...), "\n")
}

// dropSources takes out of read_from what it says of entries of a list that are gone.
func dropSources(at *yaml.Node, list string) {
	sources := get(at, "read_from")
	if sources == nil {
		return
	}
	names := map[string]bool{}
	for _, entry := range get(at, list).Content {
		for _, handle := range []string{"name", "file"} {
			if n := get(entry, handle); n != nil {
				names[list+"."+n.Value] = true
			}
		}
	}
	var kept []*yaml.Node
	for i := 0; i+1 < len(sources.Content); i += 2 {
		if k := sources.Content[i].Value; !strings.HasPrefix(k, list+".") || names[k] {
			kept = append(kept, sources.Content[i], sources.Content[i+1])
		}
	}
	sources.Content = kept
}

// Text lists what the sources say.
func (c Contradiction) Text() string {
	var said []string
	for _, v := range c.Values {
		said = append(said, fmt.Sprintf("%s says %s", v.At, v.Text))
	}
	return strings.Join(said, "; ")
}

func scalar(text string) *yaml.Node {
	return &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!str", Value: text}
}

func get(m *yaml.Node, key string) *yaml.Node {
	if m == nil || m.Kind != yaml.MappingNode {
		return nil
	}
	for i := 0; i+1 < len(m.Content); i += 2 {
		if m.Content[i].Value == key {
			return m.Content[i+1]
		}
	}
	return nil
}

// put sets a key of a mapping; a new one goes where the order of keys has it.
func put(m *yaml.Node, key string, value *yaml.Node) {
	at := len(m.Content)
	rank := slices.Index(keyOrder, key)
	for i := 0; i+1 < len(m.Content); i += 2 {
		if m.Content[i].Value == key {
			value.LineComment = m.Content[i+1].LineComment
			m.Content[i+1] = value
			return
		}
		if r := slices.Index(keyOrder, m.Content[i].Value); rank >= 0 && r > rank && at == len(m.Content) {
			at = i
		}
	}
	m.Content = slices.Insert(m.Content, at, scalar(key), value)
	m.Content[at].Tag = ""
}
