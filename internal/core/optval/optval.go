// Package optval finds and sets one value inside an option, whether the option is PHP-serialised or JSON.
//
//	v, err := optval.Lookup(raw, "contact", "email")
//	fresh, err := optval.Set(raw, "office@elm.example", "contact", "email")
//
// A path is a list of array keys, property names, or, in JSON arrays, numbers. Everything beside the value
// stays as it is, byte for byte. JSON is RFC 8259; PHP's format is described in package phpval.
package optval

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"

	"nestseed/internal/core/phpval"
)

// ErrNotStructured says that an option with a path is neither serialised nor JSON.
var ErrNotStructured = errors.New("the option holds one plain value, with nothing inside to point at")

// Lookup returns the value at a path as text; an empty path is the option itself. Errors: ErrNotStructured,
// phpval.ErrBroken, phpval.ErrNoSuchPath.
func Lookup(raw []byte, path ...string) (string, error) {
	switch {
	case len(path) == 0:
		return string(raw), nil
	case phpval.Looks(raw):
		return phpval.Lookup(raw, path...)
	case looksJSON(raw):
		from, to, err := find(raw, path)
		if err != nil {
			return "", err
		}
		var text string
		if json.Unmarshal(raw[from:to], &text) == nil {
			return text, nil
		}
		if c := raw[from]; c == '{' || c == '[' {
			return "", fmt.Errorf("%w: it leads to a list or object, not to one value", phpval.ErrNoSuchPath)
		}
		return string(raw[from:to]), nil
	}
	return "", ErrNotStructured
}

// Set returns raw with the value at a path replaced. Numbers and booleans keep their type when the text fits.
func Set(raw []byte, value string, path ...string) ([]byte, error) {
	switch {
	case len(path) == 0:
		return []byte(value), nil
	case phpval.Looks(raw):
		return phpval.Set(raw, value, path...)
	case looksJSON(raw):
		from, to, err := find(raw, path)
		if err != nil {
			return nil, err
		}
		return bytes.Join([][]byte{raw[:from], typed(raw[from:to], value, bytes.Contains(raw, []byte(`\/`))), raw[to:]}, nil), nil
	}
	return nil, ErrNotStructured
}

func looksJSON(raw []byte) bool {
	t := bytes.TrimSpace(raw)
	return len(t) > 1 && (t[0] == '{' || t[0] == '[') && json.Valid(t)
}

// typed writes value as JSON of the type that was there; PHP's habit of escaping slashes is kept.
func typed(old []byte, value string, escapeSlashes bool) []byte {
	switch {
	case old[0] == 't' || old[0] == 'f':
		switch value {
		case "1", "true":
			return []byte("true")
		case "0", "", "false":
			return []byte("false")
		}
	case old[0] == '-' || old[0] >= '0' && old[0] <= '9':
		if _, err := strconv.ParseFloat(value, 64); err == nil && json.Valid([]byte(value)) {
			return []byte(value)
		}
	}
	var out bytes.Buffer
	enc := json.NewEncoder(&out)
	enc.SetEscapeHTML(false)
	enc.Encode(value) // of a string, which cannot fail
	text := bytes.TrimSuffix(out.Bytes(), []byte("\n"))
	if escapeSlashes {
		text = bytes.ReplaceAll(text, []byte("/"), []byte(`\/`))
	}
	return text
}

// find returns where the value at the path begins and ends. raw is valid JSON.
func find(raw []byte, path []string) (from, to int, err error) {
	dec := json.NewDecoder(bytes.NewReader(raw))
	for depth, key := range path {
		tok, err := dec.Token()
		if err != nil {
			return 0, 0, err
		}
		if !enter(dec, tok, key) {
			return 0, 0, fmt.Errorf("%w: %q is not there (step %d of the path)", phpval.ErrNoSuchPath, key, depth+1)
		}
	}
	var v json.RawMessage
	if err := dec.Decode(&v); err != nil {
		return 0, 0, err
	}
	to = int(dec.InputOffset())
	return to - len(v), to, nil
}

// enter moves to the member with this key, behind the token that opened its object or list.
func enter(dec *json.Decoder, opened json.Token, key string) bool {
	n := 0
	for dec.More() {
		name := strconv.Itoa(n)
		if opened == json.Delim('{') {
			t, err := dec.Token()
			if err != nil {
				return false
			}
			name, _ = t.(string)
		} else if opened != json.Delim('[') {
			return false
		}
		if name == key {
			return true
		}
		var skip json.RawMessage
		if dec.Decode(&skip) != nil {
			return false
		}
		n++
	}
	return false
}

// Each calls visit with every single value inside an option and the path that leads to it, keys of objects in JSON by name; a plain
// option is one value without a path. The path is valid during the call.
func Each(raw []byte, visit func(path []string, value string)) {
	switch {
	case phpval.Looks(raw) && phpval.Valid(raw):
		phpval.Each(raw, visit)
	case looksJSON(raw):
		var v any
		dec := json.NewDecoder(bytes.NewReader(raw))
		dec.UseNumber()
		if dec.Decode(&v) == nil {
			eachJSON(nil, v, visit)
		}
	default:
		visit(nil, string(raw))
	}
}

func eachJSON(path []string, v any, visit func([]string, string)) {
	below := func(key string, v any) { eachJSON(append(path[:len(path):len(path)], key), v, visit) }
	switch v := v.(type) {
	case map[string]any:
		for _, k := range slices.Sorted(maps.Keys(v)) {
			below(k, v[k])
		}
	case []any:
		for i, x := range v {
			below(strconv.Itoa(i), x)
		}
	case nil:
		visit(path, "")
	default:
		visit(path, fmt.Sprint(v))
	}
}
