// Package bounds judges text of strangers before it is parsed into something that takes many times its size.
//
//	err := bounds.JSON(text, 400_000)   // before json.Unmarshal
//	err := bounds.YAML(text)            // before yaml.Unmarshal
package bounds

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
)

// ErrTooMuch says that a text would take too much memory, or time, to be read.
var ErrTooMuch = errors.New("is larger or deeper than anything that is meant to be read here")

// What may be inside each other.
const (
	jsonDepth = 200
	yamlDepth = 100
)

// YAMLBytes is how long a text in YAML may be: a definition or a list that a person writes.
const YAMLBytes = 512 << 10

// JSON counts the parts of a text in JSON, and how deep they are, without keeping any. What is wrong with it otherwise is told by whoever
// reads it. Errors: ErrTooMuch.
func JSON(text []byte, most int) error {
	d := json.NewDecoder(bytes.NewReader(text))
	depth := 0
	for n := 0; ; n++ {
		t, err := d.Token()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return nil //nolint:nilerr // it is told by whoever reads it
		}
		switch t {
		case json.Delim('{'), json.Delim('['):
			depth++
		case json.Delim('}'), json.Delim(']'):
			depth--
		}
		if n > most || depth > jsonDepth {
			return fmt.Errorf("the JSON %w", ErrTooMuch)
		}
	}
}

// YAML counts what is inside each other in a text: brackets, marks of lists on one line, and levels of indentation; and references, which
// repeat what they refer to (YAML 1.2, 7.1). Text in block scalars is counted like any other, since to tell would be to parse it: programs
// have brackets too, and close them. Errors: ErrTooMuch.
func YAML(text []byte) error {
	tooMuch := fmt.Errorf("the YAML %w", ErrTooMuch)
	if len(text) > YAMLBytes {
		return tooMuch
	}
	open, references := 0, 0
	var levels []int
	for line := range bytes.Lines(text) {
		body := bytes.TrimLeft(line, " ")
		indent := len(line) - len(body)
		if len(bytes.TrimSpace(body)) == 0 {
			continue
		}
		for len(levels) > 0 && levels[len(levels)-1] >= indent {
			levels = levels[:len(levels)-1]
		}
		levels = append(levels, indent)
		marks := 0
		for rest := body; len(rest) > 1 && (rest[0] == '-' || rest[0] == '?') && (rest[1] == ' ' || rest[1] == '\t'); {
			rest = bytes.TrimLeft(rest[1:], " \t")
			marks++
		}
		if len(levels)+marks > yamlDepth {
			return tooMuch
		}
		if c := reference(body); c {
			references++
		}
		for _, c := range body {
			switch c {
			case '[', '{', '(':
				open++
			case ']', '}', ')':
				open = max(0, open-1)
			}
			if open > 10*yamlDepth {
				return tooMuch
			}
		}
	}
	if references > 50 {
		return tooMuch
	}
	return nil
}

func alphanumeric(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9'
}

// reference reports whether a line may refer to another place: an asterisk and a name at the beginning of a value.
func reference(line []byte) bool {
	for at := bytes.IndexByte(line, '*'); at >= 0; {
		before := bytes.TrimRight(line[:at], " \t")
		if at+1 < len(line) && alphanumeric(line[at+1]) && (len(before) == 0 || bytes.ContainsAny(before[len(before)-1:], ":-,[{?")) {
			return true
		}
		next := bytes.IndexByte(line[at+1:], '*')
		if next < 0 {
			break
		}
		at += 1 + next
	}
	return false
}
