package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/require"

	"nestseed/internal/core/kind"
)

func TestTheSchemaOfKindsIsThatOfTheirReader(t *testing.T) {
	text, err := KindSchema()
	require.NoError(t, err)
	published, err := os.ReadFile("../kind.schema.json")
	require.NoError(t, err)
	require.True(t, string(text) == string(published), "run: go run ./docs/schemas")
	c := jsonschema.NewCompiler()
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(string(text)))
	require.NoError(t, err)
	require.NoError(t, c.AddResource("kind.json", doc))
	schema, err := c.Compile("kind.json")
	require.NoError(t, err)

	texts := map[string]string{}
	stock, err := kind.Stock()
	require.NoError(t, err)
	for _, k := range stock {
		texts[k.Name] = k.Text()
	}
	own, err := filepath.Glob("../kinds/*.yaml")
	require.NoError(t, err)
	require.NotEmpty(t, own)
	for _, file := range own {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		texts[file] = string(text)
	}
	valid := func(text string) error {
		var v any
		asJSON, err := yaml.YAMLToJSON([]byte(text))
		require.NoError(t, err)
		v, err = jsonschema.UnmarshalJSON(strings.NewReader(string(asJSON)))
		require.NoError(t, err)
		return schema.Validate(v)
	}
	for name, text := range texts {
		require.NoError(t, valid(text), name)
		_, err := kind.Parse([]byte(text))
		require.NoError(t, err, name)
		for _, mistake := range []string{"\nlogn: {path: x}\n", "\npages: x\n"} {
			wrong := strings.Replace(text, "\npages:", "\npags:", 1) + mistake
			require.Error(t, valid(wrong), "%s with %s", name, mistake)
			_, err := kind.Parse([]byte(wrong))
			require.Error(t, err, "%s with %s", name, mistake)
		}
	}
}
