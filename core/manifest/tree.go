package manifest

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"sort"
	"strings"

	"go.yaml.in/yaml/v3"
	"gopkg.in/ini.v1"
)

// value is a document of any form as a tree: a text, a list, or a mapping.
// It keeps its line.
type value struct {
	line int
	text string
	list []*value
	keys []string // of a mapping, in the order of the file
	of   map[string]*value
}

func (v *value) isMap() bool { return v != nil && v.of != nil }

// put adds a value under a key; a second one of the same key makes a list, as
// repeated elements of XML are.
func (v *value) put(key string, child *value) {
	if v.of == nil {
		v.of = map[string]*value{}
	}
	have, ok := v.of[key]
	switch {
	case !ok:
		v.keys = append(v.keys, key)
		v.of[key] = child
	case have.of == nil && have.list != nil && have.text == repeated:
		have.list = append(have.list, child)
	default:
		v.of[key] = &value{line: have.line, text: repeated, list: []*value{have, child}}
	}
}

// repeated marks a list that was made from elements of one name.
const repeated = "\x00repeated"

// Bounds of one document.
const (
	maxNodes  = 1_000_000
	maxLevels = 100
)

var errTooLarge = errors.New("it holds more values than are read")

// lineError is an error with its line.
type lineError struct {
	line int
	err  error
}

func (e *lineError) Error() string { return e.err.Error() }

// lines finds the line of an offset.
type lines []int

func newLines(data []byte) lines {
	var l lines
	for i, c := range data {
		if c == '\n' {
			l = append(l, i)
		}
	}
	return l
}

func (l lines) at(offset int64) int {
	return 1 + sort.Search(len(l), func(i int) bool { return int64(l[i]) >= offset })
}

func readJSON(data []byte) (*value, error) {
	r := &jsonReader{d: json.NewDecoder(bytes.NewReader(data)), lines: newLines(data)}
	r.d.UseNumber()
	v, err := r.value(0)
	if err == nil {
		if _, more := r.d.Token(); more != io.EOF {
			err = errors.New("something follows the end of the document")
		}
	}
	if err != nil {
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			err = errors.New("it ends before its time")
		}
		at := r.d.InputOffset()
		var syntax *json.SyntaxError
		if errors.As(err, &syntax) {
			at = syntax.Offset
		}
		return nil, &lineError{r.lines.at(at), err}
	}
	return v, nil
}

type jsonReader struct {
	d     *json.Decoder
	lines lines
	nodes int
}

func (r *jsonReader) value(depth int) (*value, error) {
	t, err := r.d.Token()
	if err != nil {
		return nil, err
	}
	if r.nodes++; r.nodes > maxNodes || depth > maxLevels {
		return nil, errTooLarge
	}
	v := &value{line: r.lines.at(r.d.InputOffset())}
	switch t {
	case json.Delim('{'):
		v.of = map[string]*value{}
		for r.d.More() {
			k, err := r.d.Token()
			if err != nil {
				return nil, err
			}
			key := k.(string)
			if _, twice := v.of[key]; twice {
				return nil, fmt.Errorf("the key %q stands there a second time", key)
			}
			child, err := r.value(depth + 1)
			if err != nil {
				return nil, err
			}
			v.put(key, child)
		}
	case json.Delim('['):
		v.list = []*value{}
		for r.d.More() {
			child, err := r.value(depth + 1)
			if err != nil {
				return nil, err
			}
			v.list = append(v.list, child)
		}
	default:
		if t != nil {
			v.text = fmt.Sprint(t)
		}
		return v, nil
	}
	_, err = r.d.Token() // the closing bracket
	return v, err
}

func readYAML(data []byte) (*value, error) {
	var doc yaml.Node
	if err := yaml.Unmarshal(data, &doc); err != nil {
		return nil, &lineError{yamlLine(err), errors.New(strings.TrimPrefix(err.Error(), "yaml: "))}
	}
	if len(doc.Content) == 0 {
		return nil, &lineError{1, errors.New("it is empty")}
	}
	nodes := 0
	v, err := fromYAML(doc.Content[0], &nodes, 0)
	if err != nil {
		return nil, &lineError{1, err}
	}
	return v, nil
}

func yamlLine(err error) int {
	line := 1
	fmt.Sscanf(err.Error(), "yaml: line %d:", &line)
	return line
}

func fromYAML(n *yaml.Node, nodes *int, depth int) (*value, error) {
	if *nodes++; *nodes > maxNodes || depth > maxLevels {
		return nil, errTooLarge
	}
	v := &value{line: n.Line}
	switch n.Kind {
	case yaml.AliasNode:
		return fromYAML(n.Alias, nodes, depth+1)
	case yaml.ScalarNode:
		if n.Tag != "!!null" {
			v.text = n.Value
		}
	case yaml.SequenceNode:
		v.list = []*value{}
		for _, c := range n.Content {
			child, err := fromYAML(c, nodes, depth+1)
			if err != nil {
				return nil, err
			}
			v.list = append(v.list, child)
		}
	case yaml.MappingNode:
		v.of = map[string]*value{}
		for i := 0; i+1 < len(n.Content); i += 2 {
			if _, twice := v.of[n.Content[i].Value]; twice {
				return nil, fmt.Errorf("the key %q stands in line %d a second time", n.Content[i].Value, n.Content[i].Line)
			}
			child, err := fromYAML(n.Content[i+1], nodes, depth+1)
			if err != nil {
				return nil, err
			}
			v.put(n.Content[i].Value, child)
		}
	}
	return v, nil
}

// readXML makes a mapping of each element: its attributes under "@name", its
// elements under their names, and its text.
func readXML(data []byte) (*value, error) {
	d := xml.NewDecoder(bytes.NewReader(data))
	root := &value{line: 1, of: map[string]*value{}}
	stack := []*value{root}
	nodes := 0
	for {
		t, err := d.Token()
		line, _ := d.InputPos()
		if err == io.EOF {
			return root, nil
		}
		if err != nil {
			return nil, &lineError{line, err}
		}
		if nodes++; nodes > maxNodes || len(stack) > maxLevels {
			return nil, &lineError{line, errTooLarge}
		}
		top := stack[len(stack)-1]
		switch x := t.(type) {
		case xml.StartElement:
			v := &value{line: line}
			for _, a := range x.Attr {
				v.put("@"+a.Name.Local, &value{line: line, text: a.Value})
			}
			top.put(x.Name.Local, v)
			stack = append(stack, v)
		case xml.EndElement:
			top.text = strings.TrimSpace(top.text)
			stack = stack[:len(stack)-1]
		case xml.CharData:
			if len(stack) > 1 {
				top.text += string(x)
			}
		}
	}
}

// readCSV makes a mapping of each row, by the titles of the columns.
func readCSV(data []byte) (*value, error) {
	r := csv.NewReader(bytes.NewReader(bytes.TrimPrefix(data, []byte("\ufeff"))))
	r.TrimLeadingSpace, r.FieldsPerRecord, r.Comment = true, -1, '#'
	first, _, _ := bytes.Cut(data, []byte("\n"))
	if bytes.Count(first, []byte(";")) > bytes.Count(first, []byte(",")) {
		r.Comma = ';'
	} else if bytes.Count(first, []byte("\t")) > bytes.Count(first, []byte(",")) {
		r.Comma = '\t'
	}
	root := &value{line: 1, list: []*value{}}
	var titles []string
	for {
		row, err := r.Read()
		if err == io.EOF {
			return root, nil
		}
		if err != nil {
			var parse *csv.ParseError
			line := 1
			if errors.As(err, &parse) {
				line = parse.Line
			}
			return nil, &lineError{line, err}
		}
		line, _ := r.FieldPos(0)
		if titles == nil {
			titles = row
			continue
		}
		if len(root.list) > maxNodes {
			return nil, &lineError{line, errTooLarge}
		}
		v := &value{line: line, of: map[string]*value{}}
		for i, cell := range row {
			if i < len(titles) {
				v.put(strings.TrimSpace(titles[i]), &value{line: line, text: strings.TrimSpace(cell)})
			} else if strings.TrimSpace(cell) != "" {
				return nil, &lineError{line, fmt.Errorf("the row has %d cells, and there are %d columns", len(row), len(titles))}
			}
		}
		root.list = append(root.list, v)
	}
}

// readINI makes a mapping of each section; its name stands under "$section".
// Sections of one name are kept apart, as records that all bear the same.
func readINI(data []byte) (*value, error) {
	f, err := ini.LoadSources(ini.LoadOptions{AllowNonUniqueSections: true, IgnoreInlineComment: true, AllowBooleanKeys: true}, data)
	if err != nil {
		return nil, &lineError{1, err}
	}
	where, err := sectionLines(data)
	if err != nil {
		return nil, err
	}
	root := &value{line: 1, list: []*value{}}
	for _, s := range f.Sections() {
		if s.Name() == ini.DefaultSection && len(s.Keys()) == 0 {
			continue
		}
		at := iniSection{line: 1}
		if of := where[s.Name()]; len(of) > 0 {
			at, where[s.Name()] = of[0], of[1:]
		}
		v := &value{line: at.line, of: map[string]*value{}}
		if s.Name() != ini.DefaultSection {
			v.put("$section", &value{line: v.line, text: s.Name()})
		}
		for _, k := range s.Keys() {
			v.put(k.Name(), &value{line: max(at.line, at.keys[k.Name()]), text: k.Value()})
		}
		root.list = append(root.list, v)
	}
	return root, nil
}

// iniSection tells where a section and its keys stand.
type iniSection struct {
	line int
	keys map[string]int
}

// sectionLines finds the lines of sections and keys, which the library does
// not tell, by the names of the sections and in their order. A key that
// stands twice in one section, whose first value the library drops, is an
// error.
func sectionLines(data []byte) (map[string][]iniSection, error) {
	current := iniSection{1, map[string]int{}}
	out := map[string][]iniSection{ini.DefaultSection: {current}}
	n := 0
	for line := range strings.Lines(string(data)) {
		n++
		t := strings.TrimSpace(line)
		if t == "" || t[0] == '#' || t[0] == ';' {
			continue
		}
		if strings.HasPrefix(t, "[") && strings.HasSuffix(t, "]") {
			name := strings.TrimSpace(t[1 : len(t)-1])
			current = iniSection{n, map[string]int{}}
			out[name] = append(out[name], current)
			continue
		}
		i := strings.IndexAny(t, "=:")
		if i < 0 {
			continue
		}
		key := strings.TrimSpace(t[:i])
		if before := current.keys[key]; before > 0 {
			return nil, &lineError{n, fmt.Errorf("the key %q stands in line %d already", key, before)}
		}
		current.keys[key] = n
	}
	return out, nil
}
