package optval

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/phpval"
)

func TestValuesInsideJSONAreFoundAndSetInPlace(t *testing.T) {
	raw := []byte(` {"contact": {"email":"a@b.example","on":true,"seats": 40, "list":[1,{"x":"y"}]},"url":"http:\/\/a.example\/"}`)
	for want, path := range map[string][]string{"a@b.example": {"contact", "email"}, "true": {"contact", "on"}, "40": {"contact", "seats"},
		"y": {"contact", "list", "1", "x"}, "http://a.example/": {"url"}} {
		got, err := Lookup(raw, path...)
		require.NoError(t, err)
		require.Equal(t, want, got)
	}
	out, err := Set(raw, `ö"f/f`, "contact", "email")
	require.NoError(t, err)
	require.Equal(t, ` {"contact": {"email":"ö\"f\/f","on":true,"seats": 40, "list":[1,{"x":"y"}]},"url":"http:\/\/a.example\/"}`, string(out))
	out, err = Set(raw, "7", "contact", "seats")
	require.NoError(t, err)
	require.Contains(t, string(out), `"seats": 7,`)
	out, err = Set(raw, "0", "contact", "on")
	require.NoError(t, err)
	require.Contains(t, string(out), `"on":false`)
	require.True(t, json.Valid(out))

	_, err = Lookup(raw, "contact", "phone")
	require.ErrorIs(t, err, phpval.ErrNoSuchPath)
	_, err = Lookup(raw, "contact")
	require.ErrorIs(t, err, phpval.ErrNoSuchPath)
	_, err = Set([]byte("plain"), "x", "a")
	require.ErrorIs(t, err, ErrNotStructured)
}

func TestValuesInsideSerialisedOptionsAreFoundAndSet(t *testing.T) {
	raw := []byte(`a:1:{s:7:"contact";a:2:{s:5:"email";s:3:"x@y";i:3;d:1.5;}}`)
	out, err := Set(raw, "longer@y.example", "contact", "email")
	require.NoError(t, err)
	require.Equal(t, `a:1:{s:7:"contact";a:2:{s:5:"email";s:16:"longer@y.example";i:3;d:1.5;}}`, string(out))
	got := map[string]string{}
	Each(out, func(p []string, v string) { got[strings.Join(p, " › ")] = v })
	require.Equal(t, map[string]string{"contact › email": "longer@y.example", "contact › 3": "1.5"}, got)
}

func TestEachSeesObjectsJSONAndPlainText(t *testing.T) {
	got := map[string]string{}
	Each([]byte(`O:8:"stdClass":2:{s:1:"a";b:1;s:1:"b";O:1:"X":1:{s:4:"`+"\x00X\x00k"+`";N;}}`), func(p []string, v string) { got[strings.Join(p, " › ")] = v })
	require.Equal(t, map[string]string{"a": "1", "b › k": ""}, got)
	got = map[string]string{}
	Each([]byte(`{"a":[1,null,"t"]}`), func(p []string, v string) { got[strings.Join(p, " › ")] = v })
	require.Equal(t, map[string]string{"a › 0": "1", "a › 1": "", "a › 2": "t"}, got)
	Each([]byte("just text"), func(p []string, v string) { require.Equal(t, "just text", v) })
}

func FuzzSetJSON(f *testing.F) {
	f.Add([]byte(`{"a":{"b":1}}`), "x")
	f.Add([]byte(`[1,[2,"x"]]`), "")
	f.Fuzz(func(t *testing.T, raw []byte, v string) {
		for _, path := range [][]string{{"a"}, {"a", "b"}, {"1", "0"}} {
			out, err := Set(raw, v, path...)
			if err == nil && looksJSON(raw) {
				require.True(t, json.Valid(out), "%q", out)
			}
		}
	})
}

func TestEachValueIsFoundAtItsPath(t *testing.T) {
	for raw, n := range map[string]int{
		`a:2:{s:7:"contact";a:2:{s:5:"email";s:3:"a@b";i:0;i:7;}s:7:"a › b";b:1;}`: 3,
		`{"contact": {"email": "a@b", "list": ["x", 2, true]}, "n": 1.50}`:         5,
		`plain`: 1,
	} {
		seen := 0
		Each([]byte(raw), func(path []string, value string) {
			seen++
			is, err := Lookup([]byte(raw), path...)
			require.NoError(t, err, "%v", path)
			require.Equal(t, value, is, "%v", path)
		})
		require.Equal(t, n, seen, raw)
	}
}
