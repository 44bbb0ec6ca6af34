// Package yamlfile reads the YAML files that people write (devices,
// rulebooks, layouts) strictly: an unknown key, a wrong type or a duplicate
// key is an error with file, line, column and the nearest right key.
//
// Values keep their place in the file, because a verdict cites them: the
// types Text, Size, Date, Pattern and Glob carry a Spot, and a struct with an
// embedded Spot learns where it began.
//
// The YAML itself is parsed by go.yaml.in/yaml/v3; this package walks the node
// tree and fills Go structs by their `yaml` tags:
//
//	Key  Text  `yaml:"key"`            // filled from "key"
//	Late Text  `yaml:"late,unserved"`  // known to the format, refused by name
package yamlfile

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"

	"go.yaml.in/yaml/v3"

	"fitcheck/core/spelling"
)

// MaxBytes is the bound of one text file.
const MaxBytes = 16 << 20

const (
	maxNodes  = 1_000_000 // what aliases may blow a file up to
	maxDepth  = 100
	maxErrors = 20
)

// Spot is a place in a file; both count from 1.
type Spot struct {
	Line, Column int
}

// Error is one thing wrong in a file.
type Error struct {
	File    string
	Spot    Spot
	Message string
	Advice  string
}

func (e *Error) Error() string {
	s := fmt.Sprintf("%s:%d:%d: %s", e.File, e.Spot.Line, e.Spot.Column, e.Message)
	if e.Advice != "" {
		s += "; " + e.Advice
	}
	return s
}

// Errors is everything wrong in a file, in the order of its lines.
type Errors []*Error

func (es Errors) Error() string {
	lines := make([]string, len(es))
	for i, e := range es {
		lines[i] = e.Error()
	}
	return strings.Join(lines, "\n")
}

// Read decodes data into the struct that out points to. The error, if any, is
// of type Errors.
func Read(file string, data []byte, out any) error {
	d := &decoder{file: file}
	d.read(data, out)
	if len(d.errs) == 0 {
		return nil
	}
	slices.SortStableFunc(d.errs, func(a, b *Error) int {
		if a.Spot.Line != b.Spot.Line {
			return a.Spot.Line - b.Spot.Line
		}
		return a.Spot.Column - b.Spot.Column
	})
	return d.errs
}

// Peek fills what it finds of a struct's keys and passes over all else: for a
// look at what a file is before it is read.
func Peek(data []byte, out any) {
	d := &decoder{lenient: true}
	d.read(data, out)
}

type decoder struct {
	lenient bool // unknown keys are passed over
	file    string
	nodes   int
	errs    Errors
}

// syntaxLine finds the line that the YAML library puts into its messages.
var syntaxLine = regexp.MustCompile(`^yaml: (?:line (\d+): )?`)

func (d *decoder) read(data []byte, out any) {
	if len(data) > MaxBytes {
		d.fail(Spot{1, 1}, fmt.Sprintf("the file has %d bytes; at most %d are read", len(data), MaxBytes), "")
		return
	}
	dec := yaml.NewDecoder(bytes.NewReader(data))
	var doc yaml.Node
	if err := dec.Decode(&doc); err != nil {
		if errors.Is(err, io.EOF) {
			d.fail(Spot{1, 1}, "the file is empty", "it starts with the line kind: device or kind: rulebook")
			return
		}
		d.syntax(err)
		return
	}
	var second yaml.Node
	if err := dec.Decode(&second); err == nil {
		d.fail(at(&second), "a second document starts here", "write one document a file")
		return
	} else if !errors.Is(err, io.EOF) {
		d.syntax(err)
		return
	}
	if len(doc.Content) == 1 {
		d.value(doc.Content[0], reflect.ValueOf(out).Elem(), "", 0)
	}
}

func (d *decoder) syntax(err error) {
	msg := err.Error()
	spot := Spot{1, 1}
	if m := syntaxLine.FindStringSubmatch(msg); m != nil {
		msg = msg[len(m[0]):]
		if n, err := strconv.Atoi(m[1]); err == nil {
			spot.Line = n
		}
	}
	d.fail(spot, "this is not YAML: "+msg, "look at the indentation and the quotes here and in the line before")
}

func at(n *yaml.Node) Spot { return Spot{max(n.Line, 1), max(n.Column, 1)} }

func (d *decoder) fail(s Spot, message, advice string) {
	if len(d.errs) < maxErrors {
		d.errs = append(d.errs, &Error{File: d.file, Spot: s, Message: message, Advice: advice})
	}
}

// Scalar is implemented by types that read themselves from the text of a
// scalar. The error's text becomes the message.
type Scalar interface {
	ReadScalar(text string, at Spot) error
}

// Mapping is implemented by generic ordered maps.
type mapping interface {
	entry(key string, at Spot) reflect.Value // a new value to decode into
}

// Shorthand is implemented by structs that may also be written as a scalar.
type shorthand interface {
	FromScalar(text string, at Spot) error
}

// lister is implemented by structs that may also be written as a list: it
// gives what the list is read into.
type lister interface {
	List(at Spot) any
}

// In one piece: the kinds of values, one after the other.
func (d *decoder) value(n *yaml.Node, v reflect.Value, path string, depth int) {
	if d.nodes++; d.nodes > maxNodes || depth > maxDepth {
		if d.nodes < maxNodes*2 { // once
			d.nodes = maxNodes * 2
			d.fail(at(n), "the file unfolds beyond all measure", "write it with fewer aliases (*name)")
		}
		return
	}
	if n.Kind == yaml.AliasNode {
		d.value(n.Alias, v, path, depth+1)
		return
	}
	if v.Kind() == reflect.Pointer {
		if v.IsNil() {
			v.Set(reflect.New(v.Type().Elem()))
		}
		d.value(n, v.Elem(), path, depth)
		return
	}
	addr := v.Addr().Interface()
	if m, ok := addr.(mapping); ok {
		d.ordered(n, m, path, depth)
		return
	}
	if s, ok := addr.(Scalar); ok {
		if d.isScalar(n, path) {
			d.check(n, path, s.ReadScalar(n.Value, at(n)))
		}
		return
	}
	if s, ok := addr.(shorthand); ok && n.Kind == yaml.ScalarNode && n.Tag != "!!null" {
		d.check(n, path, s.FromScalar(n.Value, at(n)))
		return
	}
	if l, ok := addr.(lister); ok && n.Kind == yaml.SequenceNode {
		d.value(n, reflect.ValueOf(l.List(at(n))).Elem(), path, depth)
		return
	}
	switch v.Kind() {
	case reflect.Struct:
		if want := otherForms(addr, v.Type()); want != "" && (n.Kind != yaml.MappingNode || len(keysOf(v.Type()).served) == 0) {
			d.wrong(n, path, want)
			return
		}
		d.structure(n, v, path, depth)
	case reflect.Slice:
		if n.Kind != yaml.SequenceNode {
			d.wrong(n, path, "a list such as [a, b]")
			return
		}
		if len(n.Content) == 0 { // an empty list stays nil
			return
		}
		all := reflect.MakeSlice(v.Type(), len(n.Content), len(n.Content))
		for i, c := range n.Content {
			d.value(c, all.Index(i), path+"["+strconv.Itoa(i)+"]", depth+1)
		}
		v.Set(all)
	case reflect.Bool:
		if b, err := strconv.ParseBool(n.Value); err == nil && n.Kind == yaml.ScalarNode && n.Tag == "!!bool" {
			v.SetBool(b)
		} else {
			d.wrong(n, path, "true or false")
		}
	case reflect.Int:
		i, err := strconv.Atoi(n.Value)
		if n.Kind != yaml.ScalarNode || err != nil {
			d.wrong(n, path, "a whole number")
			return
		}
		v.SetInt(int64(i))
	default:
		panic("yamlfile: no reader for " + v.Type().String()) // a fault of this program, found by its tests
	}
}

// otherForms says how a struct may be written that may be written otherwise than as a mapping; "" for others.
func otherForms(addr any, t reflect.Type) string {
	var out []string
	if _, ok := addr.(shorthand); ok {
		out = append(out, "one value")
	}
	if _, ok := addr.(lister); ok {
		out = append(out, "a list")
	}
	if len(out) > 0 && len(keysOf(t).served) > 0 {
		out = append(out, "a mapping of keys to values")
	}
	return strings.Join(out, " or ")
}

func (d *decoder) check(n *yaml.Node, path string, err error) {
	if err != nil {
		d.fail(at(n), fmt.Sprintf("%s: %v", path, err), "")
	}
}

func (d *decoder) isScalar(n *yaml.Node, path string) bool {
	if n.Kind != yaml.ScalarNode || n.Tag == "!!null" {
		d.wrong(n, path, "one value")
		return false
	}
	return true
}

func (d *decoder) wrong(n *yaml.Node, path, want string) {
	got := map[yaml.Kind]string{yaml.MappingNode: "a mapping", yaml.SequenceNode: "a list", yaml.ScalarNode: fmt.Sprintf("%q", n.Value)}[n.Kind]
	if n.Tag == "!!null" {
		got = "nothing"
	}
	if path == "" {
		path = "the file"
	}
	d.fail(at(n), fmt.Sprintf("%s: %s is expected here, and %s is given", path, want, got), "")
}

// eachKey walks a mapping and reports what is not a plain or a new key.
func (d *decoder) eachKey(n *yaml.Node, path string, do func(key, value *yaml.Node)) {
	if n.Kind != yaml.MappingNode {
		d.wrong(n, path, "a mapping of keys to values")
		return
	}
	first := linesOfKeys(n)
	for i := 0; i+1 < len(n.Content); i += 2 {
		k, v := n.Content[i], n.Content[i+1]
		if k.Kind != yaml.ScalarNode || k.Tag == "!!merge" {
			d.fail(at(k), "a key must be plain text", "")
			continue
		}
		if line, dup := first(i); dup {
			d.fail(at(k), fmt.Sprintf("the key %q stands here a second time", k.Value), fmt.Sprintf("the first is in line %d", line))
			continue
		}
		do(k, v)
	}
}

// fewKeys is up to how many keys of a mapping are compared one by one.
const fewKeys = 16

// linesOfKeys tells of a key, by its place in a mapping, whether it stands there before, and in
// which line.
func linesOfKeys(n *yaml.Node) func(i int) (line int, dup bool) {
	if len(n.Content) <= 2*fewKeys {
		return func(i int) (int, bool) {
			for k := 0; k < i; k += 2 {
				if n.Content[k].Value == n.Content[i].Value && n.Content[k].Kind == yaml.ScalarNode {
					return n.Content[k].Line, true
				}
			}
			return 0, false
		}
	}
	seen := make(map[string]int, len(n.Content)/2)
	return func(i int) (int, bool) {
		k := n.Content[i]
		line, dup := seen[k.Value]
		if !dup {
			seen[k.Value] = k.Line
		}
		return line, dup
	}
}

func join(path, key string) string {
	if path == "" {
		return key
	}
	return path + "." + key
}

func (d *decoder) ordered(n *yaml.Node, m mapping, path string, depth int) {
	d.eachKey(n, path, func(k, v *yaml.Node) {
		d.value(v, m.entry(k.Value, at(k)), join(path, k.Value), depth+1)
	})
}

func (d *decoder) structure(n *yaml.Node, v reflect.Value, path string, depth int) {
	keys := keysOf(v.Type())
	fields, unserved := keys.served, keys.unserved
	if keys.spot != nil {
		*v.FieldByIndex(keys.spot).Addr().Interface().(*Spot) = at(n)
	}
	d.eachKey(n, path, func(k, val *yaml.Node) {
		if slices.Contains(unserved, k.Value) {
			d.fail(at(k), fmt.Sprintf("the key %q is part of this format, but this fitcheck does not serve it yet", join(path, k.Value)),
				"take it out, or its statement would be ignored")
			return
		}
		i, ok := fields[k.Value]
		if !ok && d.lenient {
			return
		}
		if rest, has := fields[restKey]; !ok && has {
			m := v.FieldByIndex(rest).Addr().Interface().(mapping)
			d.value(val, m.entry(k.Value, at(k)), join(path, k.Value), depth+1)
			return
		}
		if !ok {
			if len(d.errs) < maxErrors { // looking for the nearest key takes time
				d.fail(at(k), fmt.Sprintf("there is no key %q here", k.Value), nearest(k.Value, fields))
			}
			return
		}
		d.value(val, v.FieldByIndex(i), join(path, k.Value), depth+1)
	})
}

// restKey stands for the field that takes the keys of a struct that no other field has.
const restKey = ""

// structKeys are the keys of a struct, by its tags.
type structKeys struct {
	served   map[string][]int
	unserved []string
	spot     []int // the field that keeps where it stands; nil for none
}

// keysByType remembers them: a file may hold many mappings of one kind.
var keysByType sync.Map // reflect.Type to structKeys

func keysOf(t reflect.Type) structKeys {
	if have, ok := keysByType.Load(t); ok {
		return have.(structKeys)
	}
	k := structKeys{}
	k.served, k.unserved = findKeys(t)
	if f, ok := t.FieldByName("Spot"); ok && f.Type == reflect.TypeFor[Spot]() {
		k.spot = f.Index
	}
	keysByType.Store(t, k)
	return k
}

// findKeys lists the keys of a struct by its tags, embedded structs included.
func findKeys(t reflect.Type) (served map[string][]int, unserved []string) {
	served = map[string][]int{}
	for _, f := range reflect.VisibleFields(t) {
		tag, ok := f.Tag.Lookup("yaml")
		if !ok {
			continue
		}
		name, option, _ := strings.Cut(tag, ",")
		if option == "rest" {
			name = restKey
		}
		if option == "unserved" {
			unserved = append(unserved, name)
			continue
		}
		served[name] = f.Index
	}
	return served, unserved
}

func nearest(key string, fields map[string][]int) string {
	names := make([]string, 0, len(fields))
	for name := range fields {
		if name != restKey {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	if best := spelling.Nearest(key, names); best != "" {
		return fmt.Sprintf("did you mean %q?", best)
	}
	return "the keys here are " + strings.Join(names, ", ")
}
