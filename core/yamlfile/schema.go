package yamlfile

import (
	"reflect"
	"strings"
)

// Schema describes what Read accepts for a struct as a JSON Schema (draft
// 2020-12), so that editors complete and check such files as people type. It
// is made from the struct itself: keys from `yaml` tags, descriptions from
// `doc` tags, the words that a text may be from `enum` tags.
func Schema(of any, title string) map[string]any {
	s := &schema{defs: map[string]any{}, names: map[reflect.Type]string{}}
	root := s.structure(reflect.TypeOf(of))
	root["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	root["title"] = title
	if len(s.defs) > 0 {
		root["$defs"] = s.defs
	}
	return root
}

type schema struct {
	defs  map[string]any
	names map[reflect.Type]string
}

// Described is implemented by scalar types of other packages that say what
// they may be.
type Described interface{ Schema() map[string]any }

func scalarSchema() map[string]any {
	return map[string]any{"type": []string{"string", "number", "boolean"}}
}

func (s *schema) of(t reflect.Type) map[string]any {
	if t.Kind() == reflect.Pointer {
		return s.of(t.Elem())
	}
	if d, ok := reflect.New(t).Interface().(Described); ok {
		return d.Schema()
	}
	switch t {
	case reflect.TypeFor[String]():
		return scalarSchema()
	case reflect.TypeFor[Size]():
		return map[string]any{"type": []string{"string", "integer"}, "pattern": sizeText.String(), "description": "32MiB, 120MB or a number of bytes"}
	case reflect.TypeFor[Date]():
		return map[string]any{"type": "string", "format": "date", "description": "as in 2026-09-30"}
	case reflect.TypeFor[Pattern]():
		return map[string]any{"type": "string", "description": "a regular expression as Go reads them, with named groups"}
	case reflect.TypeFor[Glob]():
		return map[string]any{"type": "string", "description": "a glob over items; ** spans levels"}
	}
	if _, ok := reflect.New(t).Interface().(Scalar); ok {
		return scalarSchema()
	}
	if _, ok := reflect.New(t).Interface().(mapping); ok {
		value := t.Field(0).Type.Elem().Elem() // Entries []*Entry[T]
		field, _ := value.FieldByName("Value")
		return map[string]any{"type": "object", "additionalProperties": s.of(field.Type)}
	}
	switch t.Kind() {
	case reflect.Slice:
		return map[string]any{"type": "array", "items": s.of(t.Elem())}
	case reflect.Bool:
		return map[string]any{"type": "boolean"}
	case reflect.Int:
		return map[string]any{"type": "integer"}
	}
	return s.named(t)
}

// named puts a struct among the definitions, once.
func (s *schema) named(t reflect.Type) map[string]any {
	ref := func(name string) map[string]any { return map[string]any{"$ref": "#/$defs/" + name} }
	if name, ok := s.names[t]; ok {
		return ref(name)
	}
	name := strings.ToLower(t.Name())
	s.names[t] = name
	def := s.structure(t)
	value := reflect.New(t).Interface()
	var also []any
	if _, ok := value.(shorthand); ok {
		also = append(also, scalarSchema())
	}
	if _, ok := value.(lister); ok {
		also = append(also, map[string]any{"type": "array"})
	}
	if len(also) > 0 {
		def = map[string]any{"anyOf": append([]any{def}, also...)}
	}
	s.defs[name] = def
	return ref(name)
}

func (s *schema) structure(t reflect.Type) map[string]any {
	properties := map[string]any{}
	rest := any(false)
	for _, f := range reflect.VisibleFields(t) {
		tag, ok := f.Tag.Lookup("yaml")
		if !ok {
			continue
		}
		name, option, _ := strings.Cut(tag, ",")
		if option == "unserved" {
			continue
		}
		p := s.of(f.Type)
		if option == "rest" {
			rest = p["additionalProperties"]
			continue
		}
		if e := f.Tag.Get("enum"); e != "" {
			p = map[string]any{"enum": strings.Split(e, ",")}
		}
		if d := f.Tag.Get("doc"); d != "" {
			if p["$ref"] != nil { // beside a reference, other keys stand in a list of their own
				p = map[string]any{"allOf": []any{p}}
			}
			p["description"] = d
		}
		properties[name] = p
	}
	return map[string]any{"type": "object", "properties": properties, "additionalProperties": rest}
}
