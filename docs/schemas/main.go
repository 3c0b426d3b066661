// Command schemas writes the JSON Schemas of the open formats from the types that read and write them.
package main

import (
	"encoding/json"
	"fmt"
	"os"
	"reflect"

	"github.com/danielgtaylor/huma/v2"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/packing"
)

func main() {
	for file, describe := range map[string]func() ([]byte, error){
		"docs/manifest.schema.json":     func() ([]byte, error) { return Schema(archive.Manifest{}) },
		"docs/packing-list.schema.json": func() ([]byte, error) { return Schema(packing.List{}) },
		"docs/kind.schema.json":         KindSchema,
	} {
		text, err := describe()
		if err == nil {
			err = os.WriteFile(file, text, 0o644)
		}
		if err != nil {
			fmt.Fprintln(os.Stderr, "schemas:", err)
			os.Exit(1)
		}
	}
}

// Schema returns the JSON Schema (draft 2020-12) of a type. Fields it does not know are allowed, as readers
// ignore them.
func Schema(v any) ([]byte, error) {
	huma.DefaultArrayNullable = false
	registry := huma.NewMapRegistry("#/$defs/", huma.DefaultSchemaNamer)
	root := registry.Schema(reflect.TypeOf(v), true, "")
	defs := map[string]any{}
	for name, s := range registry.Map() {
		text, err := json.Marshal(s)
		if err != nil {
			return nil, err
		}
		def := map[string]any{}
		if err := json.Unmarshal(text, &def); err != nil {
			return nil, err
		}
		delete(def, "additionalProperties")
		if s.AdditionalProperties != nil && s.Properties == nil {
			def["additionalProperties"] = s.AdditionalProperties
		}
		defs[name] = def
	}
	out, err := json.MarshalIndent(map[string]any{"$schema": "https://json-schema.org/draft/2020-12/schema", "$ref": root.Ref, "$defs": defs},
		"", "  ")
	return append(out, '\n'), err
}
