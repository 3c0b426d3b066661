package kind

import (
	"path"
	"regexp"
	"strings"
)

// maxValueBytes bounds a setting's value: a hostile file could double one line after line.
const maxValueBytes = 64 << 10

// maxExpression bounds how many tokens an expression has that is worked out, and so how deep brackets stand in one another.
const maxExpression = 500

// evaluate works out constant expressions: literals, earlier settings, the file's own folder, variables of a .env, and their
// concatenation. Anything else gives the reason why not.
func (s *phpSettings) evaluate(toks []token) (value, why string) {
	if len(toks) > maxExpression {
		return "", "it is computed"
	}
	for i := 0; i < len(toks); {
		if len(value) > maxValueBytes {
			return "", "it is longer than any setting should be"
		}
		if toks[i].is('.') {
			i++
			continue
		}
		if toks[i].is('?') { // a ?: b, a ?? b: the second counts where the first is empty
			if i+1 < len(toks) && (toks[i+1].is(':') || toks[i+1].is('?')) {
				if value != "" {
					return value, ""
				}
				return s.evaluate(toks[i+2:])
			}
			return "", "it is computed"
		}
		part, n, why := s.operand(toks[i:])
		if why != "" {
			return "", why
		}
		value += part
		i += n
	}
	return value, ""
}

// operand works out the first operand of an expression and returns how many tokens it takes.
func (s *phpSettings) operand(toks []token) (value string, n int, why string) {
	t := toks[0]
	text := string(t.text)
	lower := strings.ToLower(strings.TrimPrefix(text, `\`))
	switch {
	case t.sort == quoted || t.sort == templated:
		return stringValue(t), 1, ""
	case t.sort == number:
		return text, 1, ""
	case t.is('-') && len(toks) > 1 && toks[1].sort == number:
		return "-" + string(toks[1].text), 2, ""
	case t.sort == mixed:
		value, why = s.interpolated(t)
		return value, 1, why
	case t.is('('):
		inner := closing(toks)
		if inner < 0 {
			return "", 0, "it is computed"
		}
		value, why = s.evaluate(toks[1:inner])
		return value, inner + 1, why
	case t.sort == word && len(toks) > 1 && toks[1].is('('):
		return s.call(lower, toks)
	case t.sort == variable && (text == "$_ENV" || text == "$_SERVER"):
		if len(toks) > 3 && toks[1].is('[') && toks[2].sort == quoted && toks[3].is(']') {
			if v, there := s.env(stringValue(toks[2])); there {
				return v, 4, ""
			}
		}
		return "", 0, "it comes from the environment (" + text + ")"
	case lower == "true":
		return "1", 1, ""
	case lower == "false" || lower == "null":
		return "", 1, ""
	case text == "__DIR__":
		return s.dir, 1, ""
	case t.sort == variable && text == "$GLOBALS" && len(toks) > 3 && toks[2].sort == quoted:
		value, why = s.known("$" + stringValue(toks[2]))
		return value, 4, why
	case t.sort == word || t.sort == variable:
		value, why = s.known(text)
		return value, 1, why
	}
	return "", 0, "it is computed"
}

// closing returns the index of the bracket that closes the one at toks[0], or -1.
func closing(toks []token) int {
	depth := 0
	for i, t := range toks {
		if t.is('(') {
			depth++
		} else if t.is(')') {
			if depth--; depth == 0 {
				return i
			}
		}
	}
	return -1
}

// call works out the few functions whose results can be known: the folder of a path, and a variable of a .env.
func (s *phpSettings) call(name string, toks []token) (value string, n int, why string) {
	end := closing(toks[1:]) + 1
	if end < 2 {
		return "", 0, "it is computed"
	}
	inner := toks[2:end]
	switch {
	case name == "dirname" && len(inner) == 1 && string(inner[0].text) == "__FILE__":
		return s.dir, end + 1, ""
	case name == "dirname" && len(inner) == 3 && string(inner[0].text) == "__FILE__" && inner[1].is(',') && inner[2].sort == number:
		value = s.dir
		for range len(inner[2].text) - 1 + int(inner[2].text[0]-'1') {
			value = path.Dir(value)
		}
		return value, end + 1, ""
	case name == "dirname":
		v, why := s.evaluate(inner)
		return path.Dir(v), end + 1, why
	case (name == "getenv" || name == "env") && len(inner) > 0 && (inner[0].sort == quoted || inner[0].sort == templated):
		v, there := s.env(stringValue(inner[0]))
		if !there {
			return "", 0, "it comes from the environment (" + name + ")"
		}
		return v, end + 1, ""
	}
	return "", 0, "it is the result of " + string(toks[0].text) + "()"
}

// known is the value of an earlier setting, of this file or of one around it.
func (s *phpSettings) known(name string) (value, why string) {
	for at := s; at != nil; at = at.outer {
		if !at.Has(name) {
			continue
		}
		v, err := at.Get(name)
		if err != nil {
			return "", "it depends on " + name + ", which is computed"
		}
		return v, ""
	}
	return "", "it depends on " + name + ", which this file does not set"
}

var simpleVariable = regexp.MustCompile(`\{\$(\w+)\}|\$\{(\w+)\}|\$(\w+)`)

// interpolated works out "…$name…" and "…{$name}…" (PHP manual, "Variable parsing").
func (s *phpSettings) interpolated(t token) (value, why string) {
	body := string(t.text[1:max(1, len(t.text)-1)])
	if t.text[0] != '"' || strings.ContainsAny(body, "\\[") || strings.Contains(body, "->") {
		return "", "it is put together from other values"
	}
	out := simpleVariable.ReplaceAllStringFunc(body, func(name string) string {
		v, reason := s.known("$" + strings.Trim(name, "${}"))
		if reason != "" {
			why = "it is put together from other values"
		}
		return v
	})
	if strings.Contains(simpleVariable.ReplaceAllString(body, ""), "{$") {
		why = "it is put together from other values"
	}
	return out, why
}
