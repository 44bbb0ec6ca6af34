// Package tree reads documents (JSON, YAML, XML, CSV, INI) into one shape, a
// tree of texts, lists and mappings that keep their lines, so that whoever
// takes something out of a document can say where it stood.
package tree

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
)

// Node is a document of any form as a tree: a text, a list, or a mapping.
// It keeps its line.
type Node struct {
	Line int
	Text string
	List []*Node
	Keys []string // of a mapping, in the order of the file
	Of   map[string]*Node
}

// IsMap tells a mapping.
func (v *Node) IsMap() bool { return v != nil && v.Of != nil }

// put adds a value under a key; a second one of the same key makes a list, as
// Repeated elements of XML are.
func (v *Node) put(key string, child *Node) {
	if v.Of == nil {
		v.Of = map[string]*Node{}
	}
	have, ok := v.Of[key]
	switch {
	case !ok:
		v.Keys = append(v.Keys, key)
		v.Of[key] = child
	case have.Of == nil && have.List != nil && have.Text == Repeated:
		have.List = append(have.List, child)
	default:
		v.Of[key] = &Node{Line: have.Line, Text: Repeated, List: []*Node{have, child}}
	}
}

// Repeated is the text that marks a list that was made from elements of one name.
const Repeated = "\x00repeated"

// Bounds of one document.
const (
	maxNodes  = 1_000_000
	MaxLevels = 100 // of nesting
)

var errTooLarge = errors.New("it holds more values than are read")

// Error is an error with its line.
type Error struct {
	Line int
	err  error
}

func (e *Error) Error() string { return e.err.Error() }

func (e *Error) Unwrap() error { return e.err }

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

func readJSON(data []byte) (*Node, error) {
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
		return nil, &Error{r.lines.at(at), err}
	}
	return v, nil
}

type jsonReader struct {
	d     *json.Decoder
	lines lines
	nodes int
}

func (r *jsonReader) value(depth int) (*Node, error) {
	t, err := r.d.Token()
	if err != nil {
		return nil, err
	}
	if r.nodes++; r.nodes > maxNodes || depth > MaxLevels {
		return nil, errTooLarge
	}
	v := &Node{Line: r.lines.at(r.d.InputOffset())}
	switch t {
	case json.Delim('{'):
		v.Of = map[string]*Node{}
		for r.d.More() {
			k, err := r.d.Token()
			if err != nil {
				return nil, err
			}
			key := k.(string)
			if _, twice := v.Of[key]; twice {
				return nil, fmt.Errorf("the key %q stands there a second time", key)
			}
			child, err := r.value(depth + 1)
			if err != nil {
				return nil, err
			}
			v.put(key, child)
		}
	case json.Delim('['):
		v.List = []*Node{}
		for r.d.More() {
			child, err := r.value(depth + 1)
			if err != nil {
				return nil, err
			}
			v.List = append(v.List, child)
		}
	default:
		if t != nil {
			v.Text = fmt.Sprint(t)
		}
		return v, nil
	}
	_, err = r.d.Token() // the closing bracket
	return v, err
}

func readYAML(data []byte) (*Node, error) {
	var doc yaml.Node
	if err := yaml.Unmarshal(data, &doc); err != nil {
		return nil, &Error{yamlLine(err), errors.New(strings.TrimPrefix(err.Error(), "yaml: "))}
	}
	if len(doc.Content) == 0 {
		return nil, &Error{1, errors.New("it is empty")}
	}
	nodes := 0
	v, err := fromYAML(doc.Content[0], &nodes, 0)
	if err != nil {
		return nil, &Error{1, err}
	}
	return v, nil
}

func yamlLine(err error) int {
	line := 1
	fmt.Sscanf(err.Error(), "yaml: line %d:", &line)
	return line
}

func fromYAML(n *yaml.Node, nodes *int, depth int) (*Node, error) {
	if *nodes++; *nodes > maxNodes || depth > MaxLevels {
		return nil, errTooLarge
	}
	v := &Node{Line: n.Line}
	switch n.Kind {
	case yaml.AliasNode:
		return fromYAML(n.Alias, nodes, depth+1)
	case yaml.ScalarNode:
		if n.Tag != "!!null" {
			v.Text = n.Value
		}
	case yaml.SequenceNode:
		v.List = []*Node{}
		for _, c := range n.Content {
			child, err := fromYAML(c, nodes, depth+1)
			if err != nil {
				return nil, err
			}
			v.List = append(v.List, child)
		}
	case yaml.MappingNode:
		v.Of = map[string]*Node{}
		for i := 0; i+1 < len(n.Content); i += 2 {
			if _, twice := v.Of[n.Content[i].Value]; twice {
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
func readXML(data []byte) (*Node, error) {
	d := xml.NewDecoder(bytes.NewReader(data))
	root := &Node{Line: 1, Of: map[string]*Node{}}
	stack := []*Node{root}
	texts := []*strings.Builder{{}} // of the elements of the stack
	nodes := 0
	for {
		t, err := d.Token()
		line, _ := d.InputPos()
		if err == io.EOF {
			return root, nil
		}
		if err != nil {
			return nil, &Error{line, err}
		}
		if nodes++; nodes > maxNodes || len(stack) > MaxLevels {
			return nil, &Error{line, errTooLarge}
		}
		top := stack[len(stack)-1]
		switch x := t.(type) {
		case xml.StartElement:
			v := &Node{Line: line}
			for _, a := range x.Attr {
				v.put("@"+a.Name.Local, &Node{Line: line, Text: a.Value})
			}
			top.put(x.Name.Local, v)
			stack, texts = append(stack, v), append(texts, &strings.Builder{})
		case xml.EndElement:
			if t := strings.TrimSpace(texts[len(texts)-1].String()); t != "" {
				top.Text = t
			}
			stack, texts = stack[:len(stack)-1], texts[:len(texts)-1]
		case xml.CharData:
			if len(stack) > 1 {
				texts[len(texts)-1].Write(x)
			}
		}
	}
}

// CSV reads rows of cells (RFC 4180) that a comma, a semicolon or a tab separates, whichever
// the first line has most of. Rows may differ in length.
func CSV(data []byte) *csv.Reader {
	r := csv.NewReader(bytes.NewReader(bytes.TrimPrefix(data, []byte("\ufeff"))))
	first, rest, _ := bytes.Cut(data, []byte("\n"))
	for bytes.HasPrefix(bytes.TrimSpace(first), []byte("#")) { // a remark
		first, rest, _ = bytes.Cut(rest, []byte("\n"))
	}
	for _, comma := range ";\t" {
		if bytes.Count(first, []byte(string(comma))) > bytes.Count(first, []byte(string(r.Comma))) {
			r.Comma = comma
		}
	}
	// Where a tab separates, trimming would swallow empty cells.
	r.FieldsPerRecord, r.TrimLeadingSpace = -1, r.Comma != '\t'
	return r
}

// readCSV makes a mapping of each row, by the titles of the columns.
func readCSV(data []byte) (*Node, error) {
	r := CSV(data)
	r.Comment = '#'
	root := &Node{Line: 1, List: []*Node{}}
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
			return nil, &Error{line, err}
		}
		line, _ := r.FieldPos(0)
		if titles == nil {
			titles = row
			continue
		}
		if len(root.List) > maxNodes {
			return nil, &Error{line, errTooLarge}
		}
		v := &Node{Line: line, Of: map[string]*Node{}}
		for i, cell := range row {
			if i < len(titles) {
				v.put(strings.TrimSpace(titles[i]), &Node{Line: line, Text: strings.TrimSpace(cell)})
			} else if strings.TrimSpace(cell) != "" {
				return nil, &Error{line, fmt.Errorf("the row has %d cells, and there are %d columns", len(row), len(titles))}
			}
		}
		root.List = append(root.List, v)
	}
}

// readINI makes a mapping of each section; its name stands under "$section".
// Sections of one name are kept apart, as records that all bear the same. A line is
// "[section]", "key = value", "key: value" or a key alone, which is "true"; one that
// begins with "#" or ";" says nothing; a value may be quoted, and goes on in the next line
// behind a backslash at its end.
func readINI(data []byte) (*Node, error) {
	root := &Node{Line: 1, List: []*Node{}}
	current := &Node{Line: 1, Of: map[string]*Node{}}
	nodes, number := 0, 0
	keep := func() {
		if len(current.Keys) > 0 {
			root.List = append(root.List, current)
		}
	}
	going := "" // the key whose value goes on
	for line := range strings.SplitSeq(strings.TrimPrefix(string(data), "\ufeff"), "\n") {
		number++
		t := strings.TrimSpace(line)
		if going != "" {
			v := current.Of[going]
			more, goesOn := strings.CutSuffix(t, `\`)
			if v.Text += more; !goesOn {
				going = ""
			}
			continue
		}
		if t == "" || t[0] == '#' || t[0] == ';' {
			continue
		}
		if nodes++; nodes > maxNodes {
			return nil, &Error{number, errTooLarge}
		}
		if t[0] == '[' {
			name, ok := strings.CutSuffix(t[1:], "]")
			if !ok {
				return nil, &Error{number, errors.New("the name of a section does not end with ]")}
			}
			keep()
			current = &Node{Line: number, Of: map[string]*Node{}}
			current.put("$section", &Node{Line: number, Text: strings.TrimSpace(name)})
			continue
		}
		key, value := t, "true"
		if i := strings.IndexAny(t, "=:"); i >= 0 {
			key, value = strings.TrimSpace(t[:i]), strings.TrimSpace(t[i+1:])
		}
		if key == "" {
			return nil, &Error{number, errors.New("there is no key in front of the value")}
		}
		if before := current.Of[key]; before != nil {
			return nil, &Error{number, fmt.Errorf("the key %q stands in line %d already", key, before.Line)}
		}
		rest, goesOn := strings.CutSuffix(value, `\`)
		if goesOn {
			going = key
		}
		current.put(key, &Node{Line: number, Text: unquoted(rest)})
	}
	keep()
	return root, nil
}

// unquoted takes the quotes off a value.
func unquoted(t string) string {
	if n := len(t); n >= 2 && strings.ContainsRune("\"'`", rune(t[0])) && t[n-1] == t[0] {
		return t[1 : n-1]
	}
	return t
}

// Parse reads a document of a form: json, yaml, xml, csv or ini. Its error is
// an *Error where the line is known.
func Parse(form string, data []byte) (*Node, error) {
	switch form {
	case "json":
		return readJSON(data)
	case "yaml":
		return readYAML(data)
	case "xml":
		return readXML(data)
	case "csv":
		return readCSV(data)
	case "ini":
		return readINI(data)
	}
	return nil, fmt.Errorf("%q is not a form of document", form)
}
