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
	tokenEnd       tokenKind = iota
	tokenWord                // a bare word
	tokenName                // an identifier in backticks
	tokenString              // a quoted string
	tokenNumber              // decimal
	tokenBytes               // 0x…, x'…', 0b…, b'…', as it is written
	tokenMark                // an operator or a bracket
	tokenParameter           // $1, of PostgreSQL
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

// markTexts are the operators and brackets there are, longest first, and pgMarkTexts those besides of PostgreSQL.
var pgMarkTexts = []string{"::", "!~~*", "!~~", "~~*", "~~", "!~*", "!~", "~*", "@>", "<@", "@@",
	"#>>", "#>", "?|", "?&", "?", "..", "[", "]"}

var markTexts = []string{"<=>", "->>", "->", "<=", ">=", "<>", "!=", "||", "&&", ":=", "<<", ">>",
	"(", ")", ",", ".", "=", "<", ">", "+", "-", "*", "/", "%", "|", "&", "^", "~", "!", ":", ";", "@"}

// tokenize takes a statement apart. Comments of MySQL are resolved before (see Resolve); those of other dialects are passed over. Every
// other byte of it belongs to a token or is white space as the server knows it; whatever else is there is ErrSyntax, so that nothing can
// hide between tokens.
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
		case d != MySQL && (bytes.HasPrefix(src[i:], []byte("--")) || bytes.HasPrefix(src[i:], []byte("/*"))):
			n := plainComment(src[i:], d == Postgres)
			if n < 0 {
				return nil, fmt.Errorf("%w: a comment is not closed", ErrSyntax)
			}
			i += n
		case d == Postgres && c == '$':
			t, end, err := dollarToken(src, i)
			if err != nil {
				return nil, err
			}
			out = append(out, t)
			i = end
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
		case identifierByte(c):
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

// plainComment returns the length of a comment as standard SQL has it, -1 where it does not end. Those of PostgreSQL may stand in one
// another (PostgreSQL manual, 4.1.5 "Comments").
func plainComment(src []byte, nests bool) int {
	if src[0] == '-' {
		if n := bytes.IndexByte(src, '\n'); n >= 0 {
			return n
		}
		return len(src)
	}
	depth := 0
	for i := 0; i+1 < len(src); i++ {
		switch {
		case src[i] == '/' && src[i+1] == '*' && (nests || depth == 0):
			depth++
			i++
		case src[i] == '*' && src[i+1] == '/':
			if depth--; depth == 0 {
				return i + 2
			}
			i++
		}
	}
	return -1
}

// dollarToken reads a string in dollars, or a parameter (PostgreSQL manual, 4.1.2.4 and 4.1.2.6).
func dollarToken(src []byte, i int) (token, int, error) {
	end := i + 1
	for end < len(src) && digit(src[end]) {
		end++
	}
	if end > i+1 {
		return token{kind: tokenParameter, text: string(src[i:end])}, end, nil
	}
	tag := dollarTag(src[i:])
	n := -1
	if tag != nil {
		n = bytes.Index(src[i+len(tag):], tag)
	}
	if n < 0 {
		return token{}, 0, fmt.Errorf("%w: a string in dollars is not closed", ErrSyntax)
	}
	from := i + len(tag)
	return token{kind: tokenString, text: string(src[from : from+n])}, from + n + len(tag), nil
}

// dollarTag returns what a string in dollars begins with: $$, or $name$; nil where none begins.
func dollarTag(src []byte) []byte {
	for i := 1; i < len(src); i++ {
		switch c := src[i]; {
		case c == '$':
			return src[:i+1]
		case !identifierByte(c) || i == 1 && digit(c):
			return nil
		}
	}
	return nil
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
	point := func(at int) bool { return src[at] == '.' && !bytes.HasPrefix(src[at:], []byte("..")) } // 1..10 is a range
	for end < len(src) && (identifierByte(src[end]) || point(end) || (src[end] == '-' || src[end] == '+') && end > i &&
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
