package kind

import (
	"bytes"
	"errors"
	"fmt"
	"strings"
)

// ErrUnreadable says that a setting is computed when the program runs, so that its value cannot be
// known from the file.
var ErrUnreadable = errors.New("cannot be read without running the site")

// Settings is a PHP settings file, read as tokens and never run. Values can be looked up and
// replaced in place; everything else in the file stays as it is, byte for byte.
type Settings struct {
	src       []byte
	dir       string
	entries   []entry
	requireAt int // where the first require or include statement begins; constants are added before it
}

// entry is one define(), const or plain variable assignment.
type entry struct {
	name     string // constants as they are, variables with their $
	value    string
	why      string // not empty: the value is not readable, and this is why
	from, to int    // of the expression
}

// ReadSettings reads a settings file that lies in the folder dir (for __DIR__).
func ReadSettings(src []byte, dir string) *Settings {
	s := &Settings{src: src, dir: dir, requireAt: -1}
	s.parse()
	return s
}

// Bytes returns the file.
func (s *Settings) Bytes() []byte { return s.src }

// Names returns the names of all settings in the order of the file, variables with their $.
func (s *Settings) Names() []string {
	names := make([]string, len(s.entries))
	for i, e := range s.entries {
		names[i] = e.name
	}
	return names
}

// Get returns the value of a constant, or of a variable named with its $. The first definition counts,
// as it does in PHP for constants. A missing one is "" and no error; a computed one is ErrUnreadable.
func (s *Settings) Get(name string) (string, error) {
	for _, e := range s.entries {
		if e.name == name {
			if e.why != "" {
				return "", fmt.Errorf("%s %w: %s", name, ErrUnreadable, e.why)
			}
			return e.value, nil
		}
	}
	return "", nil
}

// Has reports whether a setting is defined at all.
func (s *Settings) Has(name string) bool {
	for _, e := range s.entries {
		if e.name == name {
			return true
		}
	}
	return false
}

// Set gives a constant, or a variable named with its $, a string value: every definition of it is
// replaced, and a missing one is added before the file loads the rest of the site.
func (s *Settings) Set(name, value string) {
	var out []byte
	done, found := 0, false
	for _, e := range s.entries {
		if e.name == name {
			out = append(append(out, s.src[done:e.from]...), phpString(value)...)
			done, found = e.to, true
		}
	}
	if !found {
		at := s.requireAt
		line := fmt.Sprintf("define( %s, %s );\n", phpString(name), phpString(value))
		if name[0] == '$' {
			line = fmt.Sprintf("%s = %s;\n", name, phpString(value))
		}
		if at < 0 {
			at = len(s.src)
			if i := bytes.LastIndex(s.src, []byte("?>")); i >= 0 && len(bytes.TrimSpace(s.src[i+2:])) == 0 {
				at = i
			} else if !bytes.HasSuffix(s.src, []byte("\n")) {
				line = "\n" + line
			}
		}
		out = append(append(out, s.src[:at]...), line...)
		done = at
	}
	*s = *ReadSettings(append(out, s.src[done:]...), s.dir)
}

// phpString returns a single-quoted PHP literal.
func phpString(v string) string {
	return "'" + strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(v) + "'"
}

func (s *Settings) parse() {
	toks := lex(s.src)
	for i := 0; i < len(toks); i++ {
		t := toks[i]
		switch name := strings.ToLower(strings.TrimPrefix(string(t.text), `\`)); {
		case t.sort == word && name == "define" && i+3 < len(toks) && toks[i+1].is('('):
			if n := toks[i+2]; (n.sort == quoted || n.sort == templated) && toks[i+3].is(',') {
				i = s.expression(toks, i+4, stringValue(n))
			}
		case t.sort == word && name == "const":
			for i+2 < len(toks) && toks[i+1].sort == word && toks[i+2].is('=') {
				i = s.expression(toks, i+3, string(toks[i+1].text))
				if i >= len(toks) || !toks[i].is(',') {
					break
				}
			}
		case t.sort == variable && statementStart(toks, i) && i+2 < len(toks) && toks[i+1].is('=') && !toks[i+2].is('=') && !toks[i+2].is('>'):
			i = s.expression(toks, i+2, string(t.text))
		case t.sort == word && s.requireAt < 0 && statementStart(toks, i) && strings.HasPrefix(name, "require"), t.sort == word &&
			s.requireAt < 0 && statementStart(toks, i) && strings.HasPrefix(name, "include"):
			s.requireAt = lineStart(s.src, t.from)
		}
	}
}

func statementStart(toks []token, i int) bool {
	if i == 0 {
		return true
	}
	p := toks[i-1]
	return p.sort == open || p.is(';') || p.is('{') || p.is('}') || p.is(')')
}

func lineStart(src []byte, at int) int { return bytes.LastIndexByte(src[:at], '\n') + 1 }

// expression reads the expression that starts at toks[i], records it under name, and returns the index
// of the token that ends it.
func (s *Settings) expression(toks []token, i int, name string) int {
	start, depth := i, 0
	for ; i < len(toks); i++ {
		t := toks[i]
		if depth == 0 && (t.is(';') || t.is(',') || t.is(')') || t.sort == mark && len(t.text) == 2) {
			break
		}
		if t.is('(') || t.is('[') {
			depth++
		}
		if t.is(')') || t.is(']') {
			depth--
		}
	}
	if i > start {
		value, why := s.evaluate(toks[start:i])
		s.entries = append(s.entries, entry{name, value, why, toks[start].from, toks[i-1].to})
	}
	return i
}

// maxValueBytes bounds a setting's value: a hostile file could double one line after line.
const maxValueBytes = 64 << 10

// evaluate works out constant expressions: literals, earlier settings, the file's own folder, and their
// concatenation. Anything else gives the reason why not.
func (s *Settings) evaluate(toks []token) (value, why string) {
	for i := 0; i < len(toks); i++ {
		if len(value) > maxValueBytes {
			return "", "it is longer than any setting should be"
		}
		t := toks[i]
		text := string(t.text)
		lower := strings.ToLower(strings.TrimPrefix(text, `\`))
		switch {
		case t.sort == quoted || t.sort == templated:
			value += stringValue(t)
		case t.sort == number:
			value += text
		case t.is('-') && i == 0 && len(toks) == 2 && toks[1].sort == number:
			value = "-"
		case t.sort == mixed:
			return "", "it is put together from other values"
		case lower == "true":
			value += "1"
		case lower == "false" || lower == "null":
		case text == "__DIR__":
			value += s.dir
		case lower == "dirname" && i+3 < len(toks) && string(toks[i+2].text) == "__FILE__" && toks[i+3].is(')'):
			value += s.dir
			i += 3
		case t.sort == word && (lower == "getenv" || lower == "env"):
			return "", "it comes from the environment (" + lower + ")"
		case t.sort == variable && (text == "$_ENV" || text == "$_SERVER"):
			return "", "it comes from the environment (" + text + ")"
		case t.sort == word && i+1 < len(toks) && toks[i+1].is('('):
			return "", "it is the result of " + text + "()"
		case t.sort == word || t.sort == variable:
			if !s.Has(text) {
				return "", "it depends on " + text + ", which this file does not set"
			}
			v, err := s.Get(text)
			if err != nil {
				return "", "it depends on " + text + ", which is computed"
			}
			value += v
		case t.is('.') || t.is('(') && i == 0 || t.is(')') && i == len(toks)-1:
		default:
			return "", "it is computed"
		}
	}
	return value, ""
}
