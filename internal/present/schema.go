package present

import (
	"encoding/json"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
	"time"

	"fitcheck/core/digest"
)

// JSON Schemas (draft 2020-12) of the documents that the program writes, made from the Go types that
// they are written from.

// forms are empty documents, one of each form. A document that has several, as confirm with and
// without -step, stands there several times. The file that makes a document adds it.
var forms []func() any

// form adds a form of a document, by an empty one.
func form(empty func() any) { forms = append(forms, empty) }

// Schemas are those of all documents, by their names.
func Schemas() map[string]map[string]any {
	out := map[string]map[string]any{}
	makers := map[string]*schemaMaker{}
	for _, form := range forms {
		doc := form()
		items, list := reflect.Type(nil), ""
		if s, ok := doc.(*itemStream); ok {
			doc, list, items = s.doc, s.list, reflect.TypeOf(s.of)
		}
		a := aboutOf(doc)
		m := makers[a.Document]
		if m == nil {
			m = &schemaMaker{defs: map[string]any{}, names: map[reflect.Type]string{}}
			makers[a.Document] = m
			out[a.Document] = map[string]any{"$schema": "https://json-schema.org/draft/2020-12/schema", "$defs": m.defs,
				"title": fmt.Sprintf("fitcheck: the document %q", a.Document), "anyOf": []any{}}
		}
		s := m.object(reflect.TypeOf(doc))
		properties := s["properties"].(map[string]any)
		properties["fitcheck"] = map[string]any{"type": "object", "required": []string{"document", "edition"},
			"properties": map[string]any{"document": map[string]any{"const": a.Document}, "edition": map[string]any{"const": a.Edition}}}
		if list != "" && items != nil {
			properties[list] = map[string]any{"type": "array", "items": m.of(items)}
		}
		out[a.Document]["anyOf"] = append(out[a.Document]["anyOf"].([]any), s)
	}
	return out
}

// aboutOf is the head of a document.
func aboutOf(doc any) about {
	var head struct {
		Fitcheck about `json:"fitcheck"`
	}
	b, err := json.Marshal(doc)
	if err == nil {
		err = json.Unmarshal(b, &head)
	}
	if err != nil {
		panic(err) // a document that cannot be written
	}
	return head.Fitcheck
}

// schemaMaker makes the schema of one document. Named types stand under $defs, once.
type schemaMaker struct {
	defs  map[string]any
	names map[reflect.Type]string
}

func (m *schemaMaker) of(t reflect.Type) map[string]any {
	switch t {
	case reflect.TypeFor[digest.Set]():
		return map[string]any{"type": "object", "additionalProperties": map[string]any{"type": "string"}}
	case reflect.TypeFor[time.Time]():
		return map[string]any{"type": "string", "format": "date-time"}
	}
	switch t.Kind() {
	case reflect.Pointer:
		return m.of(t.Elem())
	case reflect.String:
		return map[string]any{"type": "string"}
	case reflect.Bool:
		return map[string]any{"type": "boolean"}
	case reflect.Float32, reflect.Float64:
		return map[string]any{"type": "number"}
	case reflect.Slice, reflect.Array:
		return map[string]any{"type": "array", "items": m.of(t.Elem())}
	case reflect.Map:
		return map[string]any{"type": "object", "additionalProperties": m.of(t.Elem())}
	case reflect.Struct:
		if t.Name() == "" {
			return m.object(t)
		}
		name, made := m.names[t]
		if !made {
			name = strings.ToLower(strings.TrimPrefix(strings.Split(t.Name(), "[")[0], "json"))
			for m.defs[name] != nil { // two types of one name
				name += "_"
			}
			m.names[t] = name
			m.defs[name] = true // one that holds itself finds it
			m.defs[name] = m.object(t)
		}
		return map[string]any{"$ref": "#/$defs/" + name}
	case reflect.Interface:
		return map[string]any{}
	}
	return map[string]any{"type": "integer"}
}

// object is the schema of a struct, by the rules of encoding/json.
func (m *schemaMaker) object(t reflect.Type) map[string]any {
	properties := map[string]any{}
	var required []string
	var add func(t reflect.Type, maybe bool) // maybe: it may be left out as a whole
	add = func(t reflect.Type, maybe bool) {
		for i := range t.NumField() {
			f := t.Field(i)
			name, options, _ := strings.Cut(f.Tag.Get("json"), ",")
			switch {
			case name == "-" || !f.IsExported() && !f.Anonymous:
				continue
			case f.Anonymous && name == "" && f.Type.Kind() == reflect.Struct:
				add(f.Type, maybe)
				continue
			case f.Anonymous && name == "" && f.Type.Kind() == reflect.Pointer:
				add(f.Type.Elem(), true)
				continue
			case name == "":
				name = f.Name
			}
			s := m.of(f.Type)
			if maybe || strings.Contains(options, "omitempty") || strings.Contains(options, "omitzero") {
				properties[name] = s
				continue
			}
			required = append(required, name)
			if f.Type.Kind() == reflect.Pointer {
				s = map[string]any{"anyOf": []any{s, map[string]any{"type": "null"}}}
			}
			properties[name] = s
		}
	}
	add(t, false)
	slices.Sort(required)
	out := map[string]any{"type": "object", "properties": properties}
	if len(required) > 0 {
		out["required"] = slices.Compact(required)
	}
	return out
}

// Documents names the documents that the program writes.
func Documents() []string { return slices.Sorted(maps.Keys(Schemas())) }
