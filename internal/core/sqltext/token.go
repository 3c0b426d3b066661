package sqltext

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
)

// tokenKind tells tokens apart.
type tokenKind byte

const (
	tokenEnd    tokenKind = iota
	tokenWord             // a bare word
	tokenName             // an identifier in backticks
	tokenString           // a quoted string
	tokenNumber           // decimal
	tokenBytes            // 0x…, x'…', 0b…, b'…', as it is written
	tokenMark             // an operator or a bracket
)

// token is one token of a definition.
type token struct {
	kind tokenKind
	text string // of names and strings what they mean; of all others how they are written
	word string // of words in small letters, for comparison
}

func (t token) String() string {
	switch t.kind {
	case tokenEnd:
		return "its end"
	case tokenString:
		return String(t.text)
	case tokenName:
		return Quote(t.text)
	}
	return t.text
}

// marks are the operators and brackets there are, longest first.
var pgMarkTexts = []string{"::", "!~~*", "!~~", "~~*", "~~", "!~*", "!~", "~*", "@>", "<@", "#>>", "#>", "?|", "?&", "?", "[", "]"}

var markTexts = []string{"<=>", "->>", "->", "<=", ">=", "<>", "!=", "||", "&&", ":=", "<<", ">>",
	"(", ")", ",", ".", "=", "<", ">", "+", "-", "*", "/", "%", "|", "&", "^", "~", "!", ":", ";", "@"}

// tokenize takes a statement apart, whose comments are resolved (see Resolve). Every byte of it belongs to a token or is
// white space as the server knows it; whatever else is there is ErrSyntax, so that nothing can hide between tokens.
func (d *Dialect) tokenize(src []byte) ([]token, error) {
	marks := markTexts
	if d == Postgres {
		marks = slices.Concat(pgMarkTexts, markTexts)
	}
	var out []token
	for i := 0; i < len(src); {
		c := src[i]
		switch {
		case c == ' ' || c >= '\t' && c <= '\r':
			i++
		case d != MySQL && (c == '"' || c == '`' || c == '[' && d == SQLite):
			t, end, err := d.nameToken(src, i)
			if err != nil {
				return nil, err
			}
			out = append(out, t)
			i = end
		case c == '\'' || c == '"' || c == '`':
			end := closing(src, i+1, c, d.escapes && c != '`')
			if end < 0 {
				return nil, fmt.Errorf("%w: a quote is not closed", ErrSyntax)
			}
			out = append(out, d.quotedToken(c, src[i+1:end-1]))
			i = end
		case d == Postgres && (c == 'E' || c == 'e') && i+1 < len(src) && src[i+1] == '\'':
			end := closing(src, i+2, '\'', true)
			if end < 0 {
				return nil, fmt.Errorf("%w: a quote is not closed", ErrSyntax)
			}
			out = append(out, MySQL.quotedToken('\'', src[i+2:end-1]))
			i = end
		case numberStarts(src, i):
			end := numberEnd(src, i)
			out = append(out, token{kind: tokenNumber, text: numberText(string(src[i:end]))})
			i = end
		case identifierByte(c) && !(c == '$' && d == Postgres): // where $ begins a string of another form
			t, end, err := d.wordToken(src, i)
			if err != nil {
				return nil, err
			}
			out = append(out, t)
			i = end
		default:
			text := ""
			for _, m := range marks {
				if bytes.HasPrefix(src[i:], []byte(m)) {
					text = m
					break
				}
			}
			if text == "" {
				return nil, fmt.Errorf("%w: the character %q has no place in a definition", ErrSyntax, c)
			}
			out = append(out, token{kind: tokenMark, text: text})
			i += len(text)
		}
	}
	return out, nil
}

// nameToken reads an identifier in quotes of a dialect that has others than backticks alone.
func (d *Dialect) nameToken(src []byte, i int) (token, int, error) {
	quote := src[i]
	if quote == '`' && d == Postgres {
		return token{}, 0, fmt.Errorf("%w: the character %q has no place in a definition", ErrSyntax, quote)
	}
	if quote == '[' {
		end := bytes.IndexByte(src[i:], ']')
		if end < 0 {
			return token{}, 0, fmt.Errorf("%w: a quote is not closed", ErrSyntax)
		}
		return token{kind: tokenName, text: string(src[i+1 : i+end])}, i + end + 1, nil
	}
	end := closing(src, i+1, quote, false)
	if end < 0 {
		return token{}, 0, fmt.Errorf("%w: a quote is not closed", ErrSyntax)
	}
	q := string(quote)
	return token{kind: tokenName, text: strings.ReplaceAll(string(src[i+1:end-1]), q+q, q)}, end, nil
}

func (d *Dialect) quotedToken(quote byte, body []byte) token {
	if !d.escapes {
		return token{kind: tokenString, text: strings.ReplaceAll(string(body), "''", "'")}
	}
	return quotedToken(quote, body)
}

func quotedToken(quote byte, body []byte) token {
	if quote == '`' {
		return token{kind: tokenName, text: string(bytes.ReplaceAll(body, []byte("``"), []byte("`")))}
	}
	if quote == '"' { // to the form that AppendUnescaped reads
		body = bytes.ReplaceAll(body, []byte(`""`), []byte(`"`))
		body = bytes.ReplaceAll(body, []byte(`'`), []byte(`''`))
		body = bytes.ReplaceAll(body, []byte(`\''`), []byte(`\'`))
	}
	return token{kind: tokenString, text: string(AppendUnescaped(nil, body))}
}

// numberText writes figures on both sides of the point, which would otherwise be one between names.
func numberText(s string) string {
	whole, rest, point := strings.Cut(s, ".")
	if !point {
		return s
	}
	if whole == "" {
		whole = "0"
	}
	if rest == "" || !digit(rest[0]) {
		rest = "0" + rest
	}
	return whole + "." + rest
}

func digit(c byte) bool { return c >= '0' && c <= '9' }

// numberStarts reports whether a decimal number begins at i: a word that only begins with digits is a name.
func numberStarts(src []byte, i int) bool {
	if src[i] == '.' {
		return i+1 < len(src) && digit(src[i+1]) && (i == 0 || !identifierByte(src[i-1]) && src[i-1] != '`')
	}
	return digit(src[i]) && IsNumber(src[i:numberEnd(src, i)])
}

// numberEnd returns where the run of bytes ends that a number at i would have.
func numberEnd(src []byte, i int) int {
	end := i
	for end < len(src) && (identifierByte(src[end]) || src[end] == '.' || (src[end] == '-' || src[end] == '+') && end > i &&
		src[end-1]|0x20 == 'e' && IsNumber(src[i:end-1])) {
		end++
	}
	return end
}

func (d *Dialect) wordToken(src []byte, i int) (token, int, error) {
	end := i
	for end < len(src) && identifierByte(src[end]) {
		end++
	}
	text := string(src[i:end])
	lower := strings.ToLower(text)
	if d == Postgres && end < len(src) && (src[end] == '\'' || lower == "u" && src[end] == '&') {
		return token{}, 0, fmt.Errorf("%w: a literal that begins with %s has no place in a definition", ErrSyntax, text)
	}
	if end < len(src) && src[end] == '\'' && (lower == "x" || lower == "b" || lower == "n") {
		stop := closing(src, end+1, '\'', true)
		if stop < 0 {
			return token{}, 0, fmt.Errorf("%w: a quote is not closed", ErrSyntax)
		}
		if lower == "n" {
			return quotedToken('\'', src[end+1:stop-1]), stop, nil
		}
		return bytesToken(src[i:stop], stop)
	}
	if d == MySQL && (strings.HasPrefix(lower, "0x") || strings.HasPrefix(text, "0b")) {
		if t, end, err := bytesToken(src[i:end], end); err == nil {
			return t, end, nil
		}
	}
	return token{kind: tokenWord, text: text, word: lower}, end, nil
}

func bytesToken(text []byte, end int) (token, int, error) {
	if _, err := Literal(text).AppendValue(nil); err != nil {
		return token{}, 0, err
	}
	return token{kind: tokenBytes, text: string(text)}, end, nil
}
