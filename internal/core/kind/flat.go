package kind

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// flatSettings is a settings file in which names have plain values.
type flatSettings struct {
	src    []byte
	syntax flatSyntax
	values []flatValue
}

// flatValue is one value and where it stands.
type flatValue struct {
	name, value string
	from, to    int
	why         string // not empty: why it cannot be read
}

// flatSyntax is how names and values are written.
type flatSyntax interface {
	read(src []byte) []flatValue
	// quote returns a value as it stands in the file, in the place of another.
	quote(old []byte, value string) string
	// add returns the file with one more value.
	add(src []byte, values []flatValue, name, value string) []byte
}

func readFlat(src []byte, syntax flatSyntax) *flatSettings {
	values := syntax.read(src)
	return &flatSettings{src: src, syntax: syntax, values: values[:min(len(values), maxEntries)]}
}

func (s *flatSettings) Get(name string) (string, error) {
	for _, v := range slices.Backward(s.values) {
		if v.name == name && v.why != "" {
			return "", fmt.Errorf("%s %w: %s", name, ErrUnreadable, v.why)
		}
		if v.name == name {
			return v.value, nil
		}
	}
	return "", nil
}

func (s *flatSettings) Has(name string) bool {
	return slices.ContainsFunc(s.values, func(v flatValue) bool { return v.name == name })
}

func (s *flatSettings) Names() (names []string) {
	for _, v := range s.values {
		names = append(names, v.name)
	}
	return names
}

func (s *flatSettings) Bytes() []byte          { return s.src }
func (*flatSettings) Files() map[string][]byte { return nil }
func (*flatSettings) Reads(string) bool        { return false }
func (*flatSettings) Outside() []string        { return nil }
func (s *flatSettings) Clone() Settings        { return readFlat(bytes.Clone(s.src), s.syntax) }

func (s *flatSettings) Set(name, value string) {
	if !s.Has(name) {
		*s = *readFlat(s.syntax.add(s.src, s.values, name, value), s.syntax)
		return
	}
	s.replace(func(v flatValue) (string, bool) { return value, v.name == name })
}

func (s *flatSettings) Blank(secrets *Search) int {
	return s.replace(func(v flatValue) (string, bool) {
		_, holds := secrets.In([]byte(v.value))
		return "", v.value != "" && holds
	})
}

// replace gives values others, where with says so, and returns how many.
func (s *flatSettings) replace(with func(flatValue) (string, bool)) (n int) {
	var out []byte
	done := 0
	ordered := slices.Clone(s.values)
	slices.SortFunc(ordered, func(a, b flatValue) int { return cmp.Compare(a.from, b.from) })
	for _, v := range ordered {
		if value, is := with(v); is && v.from >= done {
			out = append(append(out, s.src[done:v.from]...), s.syntax.quote(s.src[v.from:v.to], value)...)
			done = v.to
			n++
		}
	}
	*s = *readFlat(append(out, s.src[done:]...), s.syntax)
	return n
}

// dotenvSyntax is that of files of variables.
type dotenvSyntax struct{}

func (dotenvSyntax) read(src []byte) (out []flatValue) {
	for name, v := range readDotenv(src).inOrder() {
		out = append(out, flatValue{name: name, value: v.value, from: v.from, to: v.to})
	}
	return out
}

func (dotenvSyntax) quote(_ []byte, value string) string { return quoteEnv(value) }

func (dotenvSyntax) add(src []byte, _ []flatValue, name, value string) []byte {
	return addLine(src, name+"="+quoteEnv(value))
}

// addLine returns a text with one more line at its end.
func addLine(src []byte, line string) []byte {
	if len(src) > 0 && !bytes.HasSuffix(src, []byte("\n")) {
		src = append(src, '\n')
	}
	return append(src[:len(src):len(src)], line+"\n"...)
}

// iniSyntax is that of INI files as PHP reads them (PHP manual, parse_ini_file): sections in brackets, comments after ; or #.
type iniSyntax struct{}

func (iniSyntax) read(src []byte) (out []flatValue) {
	section := ""
	at := 0
	for line := range bytes.Lines(src) {
		text := strings.TrimSpace(string(line))
		begin := at
		at += len(line)
		switch {
		case text == "" || text[0] == ';' || text[0] == '#':
			continue
		case text[0] == '[':
			if end := strings.IndexByte(text, ']'); end > 0 {
				section = strings.TrimSpace(text[1:end]) + "."
			}
			continue
		}
		equals := bytes.IndexByte(line, '=')
		if equals < 0 {
			continue
		}
		rest := line[equals+1:]
		from := equals + 1 + len(rest) - len(bytes.TrimLeft(rest, " \t"))
		value := strings.TrimSpace(string(line[from:]))
		length := len(value)
		if q := strings.IndexAny(value, `"'`); q == 0 && len(value) > 1 {
			end := strings.IndexByte(value[1:], value[0])
			for end > 0 && value[0] == '"' && value[end] == '\\' {
				next := strings.IndexByte(value[end+2:], '"')
				if next < 0 {
					break
				}
				end += next + 1
			}
			if end >= 0 {
				length = end + 2
				value = value[1 : end+1]
				if rest[0] != '\'' {
					value = strings.NewReplacer(`\"`, `"`, `\\`, `\`).Replace(value)
				}
			}
		} else if c := strings.IndexByte(value, ';'); c >= 0 {
			value = strings.TrimRight(value[:c], " \t")
			length = len(value)
		}
		out = append(out, flatValue{name: section + strings.TrimSpace(string(line[:equals])), value: value, from: begin + from,
			to: begin + from + length})
	}
	return out
}

func (iniSyntax) quote(_ []byte, value string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", " ").Replace(value) + `"`
}

func (x iniSyntax) add(src []byte, values []flatValue, name, value string) []byte {
	section, key, inSection := strings.Cut(name, ".")
	if !inSection {
		return slices.Concat([]byte(name+" = "+x.quote(nil, value)+"\n"), src)
	}
	for _, v := range slices.Backward(values) {
		if strings.HasPrefix(v.name, section+".") {
			at := v.to + bytes.IndexByte(append(src[v.to:len(src):len(src)], '\n'), '\n')
			return slices.Concat(src[:at], []byte("\n"+key+" = "+x.quote(nil, value)), src[at:])
		}
	}
	return addLine(src, "\n["+section+"]\n"+key+" = "+x.quote(nil, value))
}

// jsonSyntax is that of JSON (RFC 8259).
type jsonSyntax struct{}

func (jsonSyntax) read(src []byte) (out []flatValue) {
	if !json.Valid(src) {
		return nil
	}
	dec := json.NewDecoder(bytes.NewReader(src))
	dec.UseNumber()
	var value func(name string)
	join := func(name, key string) string { return strings.TrimPrefix(name+"."+key, ".") }
	value = func(name string) {
		before := int(dec.InputOffset())
		t, err := dec.Token()
		if err != nil {
			return
		}
		if d, is := t.(json.Delim); is {
			for i := 0; dec.More(); i++ {
				key := strconv.Itoa(i)
				if d == '{' {
					k, _ := dec.Token()
					key, _ = k.(string)
				}
				value(join(name, key))
			}
			_, _ = dec.Token()
			return
		}
		text := ""
		switch t := t.(type) {
		case string:
			text = t
		case bool:
			text = map[bool]string{true: "1"}[t]
		case json.Number:
			text = t.String()
		}
		end := int(dec.InputOffset())
		from := before + len(src[before:end]) - len(bytes.TrimLeft(src[before:end], " \t\r\n:,"))
		out = append(out, flatValue{name: name, value: text, from: from, to: end})
	}
	value("")
	return out
}

func (jsonSyntax) quote(old []byte, value string) string {
	if len(old) > 0 && (old[0] == '-' || old[0] >= '0' && old[0] <= '9') && json.Valid([]byte(value)) {
		if _, err := strconv.ParseFloat(value, 64); err == nil {
			return value
		}
	}
	var out bytes.Buffer
	enc := json.NewEncoder(&out)
	enc.SetEscapeHTML(false)
	enc.Encode(value) // of a string, which cannot fail
	return strings.TrimSpace(out.String())
}

func (x jsonSyntax) add(src []byte, _ []flatValue, name, value string) []byte {
	if len(bytes.TrimSpace(src)) == 0 {
		src = []byte("{}\n")
	}
	keys := strings.Split(name, ".")
	at, depth := innermost(src, keys)
	if at < 0 {
		return src
	}
	text := x.quote(nil, value)
	for _, k := range slices.Backward(keys[depth+1:]) {
		text = "{" + x.quote(nil, k) + ": " + text + "}"
	}
	text = x.quote(nil, keys[depth]) + ": " + text
	if rest := bytes.TrimLeft(src[at:], " \t\r\n"); len(rest) > 0 && rest[0] != '}' {
		text += ", "
	}
	return slices.Concat(src[:at], []byte(text), src[at:])
}

// innermost returns where the body of the innermost object begins that the keys lead to, and how many of them do.
func innermost(src []byte, keys []string) (at, depth int) {
	dec := json.NewDecoder(bytes.NewReader(src))
	if t, err := dec.Token(); err != nil || t != json.Delim('{') {
		return -1, 0
	}
	at = int(dec.InputOffset())
	for depth < len(keys)-1 {
		found := false
		for dec.More() {
			k, err := dec.Token()
			if err != nil {
				return at, depth
			}
			if k == keys[depth] {
				t, err := dec.Token()
				if err != nil || t != json.Delim('{') {
					return -1, 0
				}
				at, found = int(dec.InputOffset()), true
				break
			}
			var skip json.RawMessage
			if dec.Decode(&skip) != nil {
				return at, depth
			}
		}
		if !found {
			return at, depth
		}
		depth++
	}
	return at, depth
}
