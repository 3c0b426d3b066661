package provision

import (
	"bytes"
	"errors"
	"fmt"
	"html"
	"path"
	"strings"

	"nestseed/internal/core/glob"
	"nestseed/internal/core/packing"
)

// token is a text in files that a field's value takes the place of.
type token struct {
	field string
	text  []byte
	value string
	files []string
}

// Files by what a value may do in them: in marked-up text it is escaped, in plain text it stands as it is, and
// in everything else, which may be program, it must not be able to end a string.
var (
	markup = map[string]bool{".html": true, ".htm": true, ".xml": true, ".svg": true, ".xhtml": true}
	plain  = map[string]bool{".txt": true, ".md": true, ".csv": true}
)

const breaksOut = "'\"`\\<>\n\r\x00$"

var errBreaksOut = errors.New("has quotes, angle brackets, $, a backslash or the end of a comment, which cannot be put into program files")

// endsComment is how comments of programs end that go over several lines.
const endsComment = "*/"

// leavesProgram reports whether a value could end the string or the comment that it is put into, whatever stands before and
// behind it.
func leavesProgram(before []byte, value string, behind []byte) bool {
	if strings.ContainsAny(value, breaksOut) {
		return true
	}
	around := value
	if len(before) > 0 {
		around = string(before[len(before)-1:]) + around
	}
	if len(behind) > 0 {
		around += string(behind[:1])
	}
	return strings.Contains(around, endsComment)
}

// tokenFits reports whether a value can be put into all files that a target names.
func tokenFits(t packing.Target, value string) error {
	if t.Token == "" || !leavesProgram(nil, value, nil) {
		return nil
	}
	for _, f := range t.Files {
		if ext := strings.ToLower(path.Ext(f)); !markup[ext] && !plain[ext] {
			return errBreaksOut
		}
	}
	return nil
}

// tokensOf gathers the tokens of all fields that have a value.
func tokensOf(mk *maker) ([]token, error) {
	var out []token
	for _, f := range mk.req.Archive.Manifest.List.Fields {
		for _, t := range f.To {
			if t.Token == "" {
				continue
			}
			value, give, err := mk.valueOf(f, t)
			if err != nil {
				return nil, fmt.Errorf("field %s: %w", f.Key, err)
			}
			if !give {
				value = f.Default // perhaps nothing: a token must not stay on a site
			}
			if err := tokenFits(t, value); err != nil {
				return nil, fmt.Errorf("%w: field %s %w", ErrPlan, f.Key, err)
			}
			out = append(out, token{f.Key, []byte(t.Token), value, t.Files})
		}
	}
	return out, nil
}

// fillTokens puts values into the text of a file.
func (mk *maker) fillTokens(p string, text []byte) ([]byte, error) {
	for _, t := range mk.tokens {
		n := bytes.Count(text, t.text)
		if n == 0 || !t.matches(p) {
			continue
		}
		value := t.value
		switch ext := strings.ToLower(path.Ext(p)); {
		case markup[ext]:
			value = html.EscapeString(value)
		case plain[ext]:
		default:
			for at := 0; ; at += len(t.text) {
				i := bytes.Index(text[at:], t.text)
				if i < 0 {
					break
				}
				if at += i; leavesProgram(text[:at], value, text[at+len(t.text):]) {
					return nil, fmt.Errorf("field %s %w", t.field, errBreaksOut)
				}
			}
		}
		text = bytes.ReplaceAll(text, t.text, []byte(value))
		mk.mu.Lock()
		if mk.result.Tokens == nil {
			mk.result.Tokens = map[string]int64{}
		}
		mk.result.Tokens[t.field] += int64(n)
		mk.mu.Unlock()
	}
	return text, nil
}

func (t token) matches(p string) bool {
	for _, f := range t.files {
		if glob.Match(f, p) {
			return true
		}
	}
	return false
}
