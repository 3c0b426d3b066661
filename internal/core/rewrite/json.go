package rewrite

import (
	"bytes"
	"encoding/json"
	"unicode/utf16"
	"unicode/utf8"

	"nestseed/internal/core/phpval"
)

// wrapsValues reports whether a text may be JSON in whose strings serialised values stand, however deep: then lengths have to be
// mended there too. In it a length is followed by a colon and an escaped quote.
func wrapsValues(src []byte) bool {
	if len(src) < 2 || src[0] != '{' && src[0] != '[' && src[0] != '"' && src[0] != '\\' {
		return false
	}
	for at := 1; ; at++ {
		next := bytes.Index(src[at:], []byte(`:\`))
		if next < 0 {
			return false
		}
		if at += next; src[at-1] >= '0' && src[at-1] <= '9' {
			return true
		}
	}
}

// json appends JSON (RFC 8259), rewritten: strings that are serialised values, or JSON again, are taken out of their escapes,
// rewritten, and put back with the escapes that they had; what is between is text. It reports whether src is JSON.
func (w *Worker) json(dst, src []byte) ([]byte, bool) {
	if !json.Valid(src) {
		return dst, false
	}
	done := 0
	for at := 0; at < len(src); at++ {
		if src[at] != '"' {
			continue
		}
		end := at + 1
		for src[end] != '"' {
			if src[end] == '\\' {
				end++
			}
			end++
		}
		raw := src[at : end+1]
		var inside string
		if bytes.Contains(raw, []byte(`\"`)) && json.Unmarshal(raw, &inside) == nil && w.r.Has([]byte(inside)) && holdsValue(inside) {
			if fresh := w.nested(nil, []byte(inside)); string(fresh) != inside {
				dst = append(w.Text(dst, src[done:at]), quoteLike(raw, fresh)...)
				done = end + 1
			}
		}
		at = end
	}
	return w.Text(dst, src[done:]), true
}

// holdsValue reports whether a string is a serialised value or JSON that may have one.
func holdsValue(s string) bool {
	b := bytes.TrimSpace([]byte(s))
	return phpval.Looks(b) || len(b) > 1 && (b[0] == '{' || b[0] == '[' || b[0] == '"') && json.Valid(b)
}

// quoteLike writes a string of JSON with the escapes that another one has: for slashes, and for what is not ASCII.
func quoteLike(was, fresh []byte) []byte {
	slashes := bytes.Contains(was, []byte(`\/`))
	ascii := !bytes.ContainsFunc(was, func(r rune) bool { return r > 0x7f }) && bytes.Contains(was, []byte(`\u`))
	const hex = "0123456789abcdef"
	out := []byte{'"'}
	unit := func(u uint16) { out = append(out, '\\', 'u', hex[u>>12], hex[u>>8&15], hex[u>>4&15], hex[u&15]) }
	for i := 0; i < len(fresh); {
		r, n := utf8.DecodeRune(fresh[i:])
		switch short := bytes.IndexByte([]byte("\"\\\b\f\n\r\t"), fresh[i]); {
		case short >= 0:
			out = append(out, '\\', `"\bfnrt`[short])
		case r < ' ':
			unit(uint16(r))
		case r == '/' && slashes:
			out = append(out, '\\', '/')
		case r > 0xffff && ascii:
			high, low := utf16.EncodeRune(r)
			unit(uint16(high))
			unit(uint16(low))
		case r > 0x7f && ascii:
			unit(uint16(r))
		default:
			out = append(out, fresh[i:i+n]...)
		}
		i += n
	}
	return append(out, '"')
}
