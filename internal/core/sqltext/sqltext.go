// Package sqltext reads and writes SQL scripts as text: statements, literals, identifiers.
//
// It is what stands between a site's rows and an archive. The writer side quotes values so that
// the database's own client restores the file by hand; the reader side takes scripts apart again
// without a database, so that rows can be rewritten and loaded in bulk and so that nothing from
// outside is ever piped to a client.
//
//	sc := sqltext.NewScanner(r, 64<<20)
//	for sc.Scan() {
//		ins, err := sqltext.ParseInsert(sc.Statement())
//		for ins.Next(&row) { … }
//	}
//
// Dialect: MySQL/MariaDB with backslash escapes on (no NO_BACKSLASH_ESCAPES), as their reference
// manuals describe under "String Literals" and "Comments". A script read here is text only; the
// package never talks to a server.
package sqltext

import (
	"bytes"
	"encoding/hex"
	"errors"
	"fmt"
	"unicode/utf8"
)

// ErrSyntax says that a statement is not of the form the caller asked for.
var ErrSyntax = errors.New("SQL not understood")

// SyntaxError says where a statement is not understood. It is ErrSyntax.
type SyntaxError struct {
	Reason string
	Token  int // how many tokens of the statement were understood
}

func (e *SyntaxError) Error() string { return ErrSyntax.Error() + ": " + e.Reason }

// Unwrap implements errors.Is.
func (e *SyntaxError) Unwrap() error { return ErrSyntax }

// escapes maps a byte to the letter that follows the backslash when it is quoted, or 0.
var escapes = [256]byte{0: '0', '\n': 'n', '\r': 'r', 0x1a: 'Z', '\'': '\'', '\\': '\\'}

// unescapes maps the letter after a backslash to the byte it means ("String Literals", table 9.1).
var unescapes = func() (t [256]byte) {
	for i := range t {
		t[i] = byte(i)
	}
	t['0'], t['n'], t['r'], t['t'], t['b'], t['Z'] = 0, '\n', '\r', '\t', '\b', 0x1a
	return t
}()

// AppendString appends b as a quoted literal.
func AppendString(dst, b []byte) []byte {
	return append(AppendEscapes(append(dst, '\''), b), '\'')
}

// AppendEscapes appends b as it stands between the quotes of a literal.
func AppendEscapes(dst, b []byte) []byte { return AppendEscaped(dst, b, &escapes) }

// AppendBinary appends b as a literal that no character set is applied to.
func AppendBinary(dst, b []byte) []byte {
	return AppendString(append(dst, "_binary "...), b)
}

// AppendText appends b as a string literal, with the binary introducer when it is not UTF-8: a row
// must come back byte for byte even where the source holds bytes its own character set forbids.
func AppendText(dst, b []byte) []byte {
	if !utf8.Valid(b) {
		return AppendBinary(dst, b)
	}
	return AppendString(dst, b)
}

// AppendEscaped appends b with a backslash and a letter in place of each byte that has one in the table.
func AppendEscaped(dst, b []byte, table *[256]byte) []byte {
	from := 0
	for i := 0; i < len(b); {
		end := min(i+8, len(b))
		if w := b[i:end]; len(w) == 8 && table[w[0]]|table[w[1]]|table[w[2]]|table[w[3]]|table[w[4]]|table[w[5]]|table[w[6]]|table[w[7]] == 0 {
			i = end // most bytes need no escape
			continue
		}
		for ; i < end; i++ {
			if c := table[b[i]]; c != 0 {
				dst = append(append(dst, b[from:i]...), '\\', c)
				from = i + 1
			}
		}
	}
	return append(dst, b[from:]...)
}

// Quote returns an identifier in backticks.
func Quote(name string) string {
	return "`" + string(bytes.ReplaceAll([]byte(name), []byte("`"), []byte("``"))) + "`"
}

// String returns a Go string as a quoted literal.
func String(s string) string { return string(AppendString(nil, []byte(s))) }

// Literal is one value of a row as it stands in the script.
type Literal []byte

// IsNull reports whether the literal is NULL.
func (l Literal) IsNull() bool { return len(l) == 4 && (l[0]|0x20) == 'n' && l[3]|0x20 == 'l' }

// Quoted returns the text between the quotes, still escaped, and whether the literal is a plain
// or introduced quoted string.
func (l Literal) Quoted() ([]byte, bool) {
	if len(l) >= 2 && l[0] == '\'' {
		return l[1 : len(l)-1], true
	}
	if len(l) > 3 && l[0] == '_' && l[len(l)-1] == '\'' {
		if i := bytes.IndexByte(l, '\''); i > 0 && i < len(l)-1 {
			return l[i+1 : len(l)-1], true
		}
	}
	return nil, false
}

// Charset returns the character set that an introducer gives the literal, without its underscore; "" for none.
func (l Literal) Charset() string {
	if len(l) == 0 || l[0] != '_' {
		return ""
	}
	end := 1
	for end < len(l) && identifierByte(l[end]) {
		end++
	}
	return string(l[1:end])
}

// AppendValue appends the bytes that the literal means; numbers as they are written, hexadecimal and bit
// literals (0x…, X'…', 0b…, b'…') as bytes, TRUE and FALSE as 1 and 0, NULL as nothing. Errors: ErrSyntax, where it is
// something else: a name or a function has no value of its own.
func (l Literal) AppendValue(dst []byte) ([]byte, error) {
	if len(l) == 0 {
		return dst, fmt.Errorf("%w: a value is missing", ErrSyntax)
	}
	switch body, quoted := l.Quoted(); {
	case quoted:
		return AppendUnescaped(dst, body), nil
	case l.IsNull():
		return dst, nil
	case len(l) > 2 && l[0] == '0' && l[1]|0x20 == 'x':
		return appendHex(dst, l[2:])
	case len(l) > 2 && l[0]|0x20 == 'x' && l[1] == '\'':
		return appendHex(dst, l[2:len(l)-1])
	case len(l) > 2 && l[0]|0x20 == 'b' && l[1] == '\'':
		return appendBits(dst, l[2:len(l)-1])
	case len(l) > 2 && l[0] == '0' && l[1] == 'b':
		return appendBits(dst, l[2:])
	case len(l) > 2 && l[0]|0x20 == 'n' && l[1] == '\'':
		return AppendUnescaped(dst, l[2:len(l)-1]), nil
	case l[0] == '_':
		// an introducer in front of a hexadecimal literal
		at := skipSpace(l, 1+len(l.Charset()))
		return l[at:].AppendValue(dst)
	case bytes.EqualFold(l, []byte("TRUE")):
		return append(dst, '1'), nil
	case bytes.EqualFold(l, []byte("FALSE")):
		return append(dst, '0'), nil
	case !IsNumber(l):
		return dst, fmt.Errorf("%w: %.40q is not a value", ErrSyntax, []byte(l))
	}
	return append(dst, l...), nil
}

func appendBits(dst, digits []byte) ([]byte, error) {
	out := make([]byte, (len(digits)+7)/8)
	for i, d := range digits {
		if d != '0' && d != '1' {
			return dst, fmt.Errorf("%w: bit literal", ErrSyntax)
		}
		at := len(out)*8 - len(digits) + i
		out[at/8] |= (d - '0') << (7 - at%8)
	}
	return append(dst, out...), nil
}

func appendHex(dst, digits []byte) ([]byte, error) {
	if len(digits)%2 == 1 {
		digits = append([]byte{'0'}, digits...)
	}
	out, err := hex.AppendDecode(dst, digits)
	if err != nil {
		return dst, fmt.Errorf("%w: hexadecimal literal: %v", ErrSyntax, err)
	}
	return out, nil
}

// AppendUnescaped appends what the text between quotes means.
func AppendUnescaped(dst, body []byte) []byte {
	slash, quote := index(body, '\\', 0), index(body, '\'', 0)
	for at := 0; ; {
		if slash == len(body) && quote == len(body) {
			return append(dst, body[at:]...)
		}
		if quote < slash {
			dst = append(dst, body[at:quote+1]...)
			at = min(quote+2, len(body))
			if quote = index(body, '\'', at); slash < at {
				slash = index(body, '\\', at)
			}
			continue
		}
		dst = append(dst, body[at:slash]...)
		if slash+1 == len(body) {
			return append(dst, '\\')
		}
		// \% and \_ keep their backslash outside patterns (same table, note).
		c := body[slash+1]
		if c == '%' || c == '_' {
			dst = append(dst, '\\')
		}
		dst = append(dst, unescapes[c])
		at = slash + 2
		slash = index(body, '\\', at)
		if quote < at {
			quote = index(body, '\'', at)
		}
	}
}

// Meant returns how many bytes the text between quotes means.
func Meant(body []byte) int {
	slash, quote := index(body, '\\', 0), index(body, '\'', 0)
	n := len(body)
	for at := min(slash, quote); at < len(body); at = min(slash, quote) {
		if n--; at == slash && at+1 < len(body) && (body[at+1] == '%' || body[at+1] == '_') || at+1 == len(body) {
			n++
		}
		at = min(at+2, len(body))
		if slash < at {
			slash = index(body, '\\', at)
		}
		if quote < at {
			quote = index(body, '\'', at)
		}
	}
	return n
}

// index returns the first place at or after from where c is, or the length of b.
func index(b []byte, c byte, from int) int {
	if i := bytes.IndexByte(b[from:], c); i >= 0 {
		return from + i
	}
	return len(b)
}

// closing returns the index just past the quote that ends the string whose text starts at pos, or -1.
// A doubled quote is part of the string. With escapes, so is one behind an odd run of backslashes.
func closing(src []byte, pos int, quote byte, escaped bool) int {
	for i := pos; ; {
		q := bytes.IndexByte(src[i:], quote)
		if q < 0 {
			return -1
		}
		next, closed := closes(src, i, i+q, escaped)
		if closed {
			return next
		}
		i = next
	}
}

// closes reports whether the quote at src[q] ends the string it stands in, and returns from where to go on: behind the
// quote, or the two, or the escape. Nothing is escaped before pos.
func closes(src []byte, pos, q int, escaped bool) (next int, closed bool) {
	if escaped && q > pos && src[q-1] == '\\' {
		slashes := 1
		for q-1-slashes >= pos && src[q-1-slashes] == '\\' {
			slashes++
		}
		if slashes%2 == 1 {
			return q + 1, false
		}
	}
	if q+1 < len(src) && src[q+1] == src[q] {
		return q + 2, false
	}
	return q + 1, true
}
