package main

import (
	"encoding/json"
	"reflect"
	"strings"

	"nestseed/internal/core/kind"
)

// KindSchema returns the JSON Schema (draft 2020-12) of the definition of a kind. What it does not know is a mistake.
func KindSchema() ([]byte, error) {
	defs := map[string]any{}
	root := byTags(reflect.TypeFor[kind.Kind](), defs)
	out, err := json.MarshalIndent(map[string]any{"$schema": "https://json-schema.org/draft/2020-12/schema", "title": "Definition of a kind",
		"$ref": root["$ref"], "$defs": defs}, "", "  ")
	return append(out, '\n'), err
}

// byTags describes a type by its yaml tags.
func byTags(t reflect.Type, defs map[string]any) map[string]any {
	switch t.Kind() {
	case reflect.Pointer:
		return byTags(t.Elem(), defs)
	case reflect.Slice:
		return map[string]any{"type": "array", "items": byTags(t.Elem(), defs)}
	case reflect.Map:
		return map[string]any{"type": "object", "additionalProperties": byTags(t.Elem(), defs)}
	case reflect.Bool:
		return map[string]any{"type": "boolean"}
	case reflect.Int, reflect.Int64:
		return map[string]any{"type": "integer"}
	case reflect.Struct:
	default:
		return map[string]any{"type": "string"}
	}
	if t.Name() != "" {
		if _, done := defs[t.Name()]; done {
			return map[string]any{"$ref": "#/$defs/" + t.Name()}
		}
		defs[t.Name()] = nil
	}
	properties := map[string]any{}
	var add func(reflect.Type)
	add = func(t reflect.Type) {
		for f := range t.Fields() {
			name, options, _ := strings.Cut(f.Tag.Get("yaml"), ",")
			switch {
			case options == "inline":
				add(f.Type)
			case name != "" && f.IsExported():
				properties[name] = byTags(f.Type, defs)
			}
		}
	}
	add(t)
	object := map[string]any{"type": "object", "properties": properties, "additionalProperties": false}
	if t == reflect.TypeFor[kind.Kind]() {
		object["required"] = []string{"name", "title", "detect", "lists"}
	}
	described := object
	if t == reflect.TypeFor[kind.Value]() { // a plain text is the name of an option
		described = map[string]any{"oneOf": []any{map[string]any{"type": "string"}, object}}
	}
	if t.Name() == "" {
		return described
	}
	defs[t.Name()] = described
	return map[string]any{"$ref": "#/$defs/" + t.Name()}
}
