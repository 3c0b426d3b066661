package kind

import (
	"bytes"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"

	"nestseed/internal/core/bounds"
)

// yamlSyntax is that of settings in YAML 1.2: block mappings of plain and quoted scalars. What else YAML can do (anchors, tags, flow
// collections, folded texts) is left as it is, and cannot be read as a setting.
type yamlSyntax struct{}

// yamlLine is a line of a block mapping.
type yamlLine struct {
	indent   int
	key      string
	from, to int // of the value, in the file
}

func (yamlSyntax) read(src []byte) (out []flatValue) {
	var above []yamlLine
	block := -1 // indentation of the key whose block of text is passed over
	for l, line := range yamlLines(src) {
		if block >= 0 && (l.indent > block || len(bytes.TrimSpace(line)) == 0) {
			continue
		}
		if block = -1; l.key == "" {
			continue
		}
		for len(above) > 0 && above[len(above)-1].indent >= l.indent {
			above = above[:len(above)-1]
		}
		above = append(above, l)
		value := string(src[l.from:l.to])
		if value == "" {
			continue // of a mapping, or of nothing
		}
		keys := make([]string, len(above))
		for i, a := range above {
			keys[i] = a.key
		}
		v := flatValue{name: strings.Join(keys, "."), from: l.from, to: l.to}
		switch {
		case strings.ContainsAny(value[:1], "|>"):
			block = l.indent
			v.why = "it is a block of text"
		case strings.ContainsAny(value[:1], "&*!{["):
			v.why = "it is not one plain value"
		default:
			var text any
			if bounds.YAML([]byte(value)) != nil || yaml.Unmarshal([]byte(value), &text) != nil {
				v.why = "it is not understood"
			} else if s, is := text.(string); is {
				v.value = s
			} else if text != nil {
				v.value = value
			}
		}
		out = append(out, v)
	}
	return out
}

// yamlLines goes through the lines of a file.
func yamlLines(src []byte) func(yield func(yamlLine, []byte) bool) {
	return func(yield func(yamlLine, []byte) bool) {
		at := 0
		for line := range bytes.Lines(src) {
			begin := at
			at += len(line)
			text := bytes.TrimRight(line, "\r\n")
			body := bytes.TrimLeft(text, " ")
			l := yamlLine{indent: len(text) - len(body)}
			if len(body) > 0 && body[0] != '#' && body[0] != '-' && body[0] != '\t' {
				if colon := yamlColon(body); colon > 0 {
					l.key = strings.Trim(string(body[:colon]), `"' `)
					rest := body[colon+1:]
					value := bytes.TrimLeft(rest, " \t")
					l.from = begin + l.indent + colon + 1 + len(rest) - len(value)
					l.to = l.from + yamlScalar(value)
				}
			}
			if !yield(l, line) {
				return
			}
		}
	}
}

// yamlColon returns where the colon behind a key stands, or -1.
func yamlColon(body []byte) int {
	from := 0
	if body[0] == '"' || body[0] == '\'' {
		end := bytes.IndexByte(body[1:], body[0])
		if end < 0 {
			return -1
		}
		from = end + 2
	}
	for i := from; i < len(body); i++ {
		if body[i] == ':' && (i+1 == len(body) || body[i+1] == ' ' || body[i+1] == '\t') {
			return i
		}
		if body[i] == '#' && i > 0 && body[i-1] == ' ' {
			return -1
		}
	}
	return -1
}

// yamlScalar returns how long a scalar is, without the comment behind it.
func yamlScalar(value []byte) int {
	if len(value) == 0 || value[0] == '#' {
		return 0
	}
	if q := value[0]; q == '"' || q == '\'' {
		for i := 1; i < len(value); i++ {
			switch {
			case q == '"' && value[i] == '\\':
				i++
			case value[i] == q && q == '\'' && i+1 < len(value) && value[i+1] == q:
				i++
			case value[i] == q:
				return i + 1
			}
		}
		return len(value)
	}
	if i := bytes.Index(value, []byte(" #")); i >= 0 {
		value = value[:i]
	}
	return len(bytes.TrimRight(value, " \t"))
}

func (yamlSyntax) quote(_ []byte, value string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`, "\t", `\t`, "\r", `\r`).Replace(value) + `"`
}

func (x yamlSyntax) add(src []byte, _ []flatValue, name, value string) []byte {
	keys := strings.Split(name, ".")
	at, depth, indent := len(src), 0, 0
	var above []yamlLine
	end := 0
	for l, line := range yamlLines(src) {
		end += len(line)
		if l.key == "" {
			continue
		}
		if last := len(above) - 1; depth > 0 && last == depth-1 && at == end-len(line) && l.indent > above[last].indent {
			indent = l.indent // as those that are there
		}
		for len(above) > 0 && above[len(above)-1].indent >= l.indent {
			above = above[:len(above)-1]
		}
		above = append(above, l)
		if n := len(above); n > depth && n < len(keys) &&
			slices.EqualFunc(above, keys[:n], func(a yamlLine, k string) bool { return a.key == k }) {
			at, depth, indent = min(end, len(src)), n, l.indent+2
		}
	}
	var text strings.Builder
	for i, k := range keys[depth:] {
		text.WriteString(strings.Repeat(" ", indent+2*i) + k + ":")
		if depth+i == len(keys)-1 {
			text.WriteString(" " + x.quote(nil, value))
		}
		text.WriteString("\n")
	}
	if at == len(src) {
		return addLine(src, strings.TrimSuffix(text.String(), "\n"))
	}
	return slices.Concat(src[:at], []byte(text.String()), src[at:])
}
