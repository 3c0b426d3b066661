package packing

import (
	"reflect"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"

	"nestseed/internal/core/bounds"
)

// Amend returns a text that reads as a list, made from the text of another one: lines that need not change stay as they are, with their
// comments and their order. Where that cannot be done the list is written anew, without comments.
func Amend(text string, to *List) (string, error) {
	anew, err := to.Text()
	if err != nil {
		return "", err
	}
	was, err := Parse([]byte(text))
	if err != nil {
		return string(anew), nil
	}
	before, err := was.Text()
	if err != nil {
		return "", err
	}
	var from, into yaml.MapSlice
	if bounds.YAML(before) != nil || bounds.YAML(anew) != nil || yaml.UnmarshalWithOptions(before, &from, yaml.UseOrderedMap()) != nil ||
		yaml.UnmarshalWithOptions(anew, &into, yaml.UseOrderedMap()) != nil {
		return string(anew), nil
	}
	a := &amender{lines: strings.Split(strings.TrimRight(text, "\n"), "\n")}
	if a.mapping(nil, from, into) {
		out := strings.Join(a.lines, "\n") + "\n"
		if got, err := Parse([]byte(out)); err == nil {
			if same, err := got.Text(); err == nil && string(same) == string(anew) {
				return out, nil
			}
		}
	}
	return string(anew), nil
}

// amender changes the lines of a YAML text in block style. It knows just as much of YAML as that takes: what it makes is read again.
type amender struct{ lines []string }

// span is the lines of a key: its own, those of its value, and how far its value is indented.
type span struct{ from, to, indent int }

func indentOf(line string) int { return len(line) - len(strings.TrimLeft(line, " ")) }

func silent(line string) bool {
	t := strings.TrimSpace(line)
	return t == "" || strings.HasPrefix(t, "#") || t == "---"
}

// find returns the lines of a key below others; with no keys, those of the whole text.
func (a *amender) find(keys []string) (s span, found bool) {
	s = span{from: -1, to: len(a.lines)}
	for _, key := range keys {
		at := slices.IndexFunc(a.lines[s.from+1:s.to], func(l string) bool {
			return !silent(l) && indentOf(l) == s.indent && strings.HasPrefix(l[s.indent:], key+":")
		})
		if at < 0 {
			return s, false
		}
		from, indent := s.from+1+at, s.indent
		to, inner := from+1, -1
		for i := from + 1; i < s.to; i++ {
			if silent(a.lines[i]) {
				continue
			}
			in := indentOf(a.lines[i])
			if in < indent || in == indent && !strings.HasPrefix(a.lines[i][in:], "- ") {
				break
			}
			if inner < 0 {
				inner = in
			}
			to = i + 1
		}
		s = span{from, to, inner}
	}
	for s.from < 0 && s.to > 0 && silent(a.lines[s.to-1]) {
		s.to--
	}
	return s, true
}

func (a *amender) splice(from, to int, with []string) {
	a.lines = slices.Replace(a.lines, from, to, with...)
}

// written is a value as lines of YAML, indented.
func written(v any, indent int) []string {
	_, list := v.([]any) // whose own items are not indented
	text, err := yaml.MarshalWithOptions(v, yaml.IndentSequence(!list))
	if err != nil {
		return nil
	}
	lines := strings.Split(strings.TrimRight(string(text), "\n"), "\n")
	for i := range lines {
		lines[i] = strings.Repeat(" ", indent) + lines[i]
	}
	return lines
}

func value(m yaml.MapSlice, key any) (any, bool) {
	for _, item := range m {
		if item.Key == key {
			return item.Value, true
		}
	}
	return nil, false
}

// mapping makes the value of a key from one mapping into another.
func (a *amender) mapping(keys []string, from, into yaml.MapSlice) bool {
	for _, item := range from {
		name, _ := item.Key.(string)
		if s, found := a.find(append(slices.Clone(keys), name)); found {
			if _, stays := value(into, name); !stays {
				a.splice(s.from, s.to, nil)
			}
		}
	}
	for _, item := range into {
		name, _ := item.Key.(string)
		before, had := value(from, name)
		if had && reflect.DeepEqual(before, item.Value) {
			continue
		}
		if !a.set(append(slices.Clone(keys), name), before, item.Value) {
			return false
		}
	}
	return true
}

// set gives a key another value.
func (a *amender) set(keys []string, before, v any) bool {
	name := keys[len(keys)-1]
	s, found := a.find(keys)
	if !found {
		parent, there := a.find(keys[:len(keys)-1])
		if !there {
			return false
		}
		indent := max(parent.indent, 0)
		if parent.indent < 0 { // a key whose value is empty so far
			indent = 2 * (len(keys) - 1)
			a.lines[parent.from] = strings.TrimRight(a.lines[parent.from], " {}")
		}
		a.splice(parent.to, parent.to, written(yaml.MapSlice{{Key: name, Value: v}}, indent))
		return true
	}
	inner, isMap := v.(yaml.MapSlice)
	innerBefore, wasMap := before.(yaml.MapSlice)
	items, isList := v.([]any)
	itemsBefore, wasList := before.([]any)
	switch {
	case isMap && wasMap && s.indent >= 0:
		return a.mapping(keys, innerBefore, inner)
	case isList && wasList && s.indent >= 0 && strings.HasPrefix(a.lines[s.from+1:][firstLoud(a.lines[s.from+1:])][s.indent:], "-"):
		return a.items(s, itemsBefore, items)
	}
	a.splice(s.from, s.to, written(yaml.MapSlice{{Key: name, Value: v}}, indentOf(a.lines[s.from])))
	return true
}

func firstLoud(lines []string) int {
	return slices.IndexFunc(lines, func(l string) bool { return !silent(l) })
}

// items takes items out of a list, and adds others behind it.
func (a *amender) items(s span, from, into []any) bool {
	starts := []int{}
	for i := s.from + 1; i < s.to; i++ {
		if !silent(a.lines[i]) && indentOf(a.lines[i]) == s.indent && strings.HasPrefix(a.lines[i][s.indent:], "-") {
			starts = append(starts, i)
		}
	}
	if len(starts) != len(from) {
		return false
	}
	has := func(list []any, v any) bool {
		return slices.ContainsFunc(list, func(o any) bool { return reflect.DeepEqual(o, v) })
	}
	added := []string{}
	for _, v := range into {
		if !has(from, v) {
			added = append(added, written([]any{v}, s.indent)...)
		}
	}
	a.splice(s.to, s.to, added)
	for i := len(from) - 1; i >= 0; i-- {
		if has(into, from[i]) {
			continue
		}
		end := starts[i] + 1
		for end < s.to && !silent(a.lines[end]) && indentOf(a.lines[end]) > s.indent {
			end++
		}
		a.splice(starts[i], end, nil)
		s.to -= end - starts[i] // what is before it ends earlier now
	}
	return true
}
