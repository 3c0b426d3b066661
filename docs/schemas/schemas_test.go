package main

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/json"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/require"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/build"
	"nestseed/internal/core/hostfs"
	_ "nestseed/internal/core/hostfs/protocols"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/packing"
	"nestseed/internal/core/progress"
)

func compile(t *testing.T, file string, v any) *jsonschema.Schema {
	text, err := os.ReadFile(filepath.Join("..", file))
	require.NoError(t, err)
	now, err := Schema(v)
	require.NoError(t, err)
	require.Equal(t, string(now), string(text), "%s is not up to date; run go run ./docs/schemas", file)
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	require.NoError(t, c.AddResource("s.json", doc))
	s, err := c.Compile("s.json")
	require.NoError(t, err)
	return s
}

func TestStockPackingListsFitTheirSchema(t *testing.T) {
	s := compile(t, "packing-list.schema.json", packing.List{})
	kinds, err := kind.Stock()
	require.NoError(t, err)
	for _, k := range kinds {
		for name, text := range k.Lists {
			raw, err := yaml.YAMLToJSON([]byte(text))
			require.NoError(t, err)
			doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(raw))
			require.NoError(t, err)
			require.NoError(t, s.Validate(doc), name)
		}
	}
	bad, err := jsonschema.UnmarshalJSON(strings.NewReader(`{"list": "x", "empty": "users"}`))
	require.NoError(t, err)
	require.Error(t, s.Validate(bad))
}

func TestManifestsFitTheirSchema(t *testing.T) {
	s := compile(t, "manifest.schema.json", archive.Manifest{})
	dir := t.TempDir()
	for name, text := range map[string]string{
		"wp-includes/version.php": "<?php $wp_version = '6.1.9';", "wp-load.php": "<?php", "wp-admin/index.php": "<?php",
		"wp-config.php": "<?php define('DB_NAME','x');",
	} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	fsys, err := hostfs.Open(t.Context(), hostfs.Access{Address: "file://" + dir})
	require.NoError(t, err)
	kinds, err := kind.Stock()
	require.NoError(t, err)
	id, err := kind.Identify(t.Context(), fsys, ".", kinds)
	require.NoError(t, err)
	list, err := packing.Parse([]byte(id.Kind.Lists["starter"]))
	require.NoError(t, err)
	list.Only = "files"
	f, err := os.Create(filepath.Join(t.TempDir(), "a.zip"))
	require.NoError(t, err)
	defer f.Close()
	_, err = build.Release(context.Background(), f, build.Input{FS: fsys, Root: ".", Identity: id, List: list}, progress.Discard)
	require.NoError(t, err)
	z, err := zip.OpenReader(f.Name())
	require.NoError(t, err)
	defer z.Close()
	r, err := z.Open(archive.ManifestName)
	require.NoError(t, err)
	text, err := io.ReadAll(r)
	require.NoError(t, err)
	var doc any
	require.NoError(t, json.Unmarshal(text, &doc))
	require.NoError(t, s.Validate(doc))
}
