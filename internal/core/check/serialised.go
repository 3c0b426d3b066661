package check

import (
	"bytes"
	"strconv"
	"strings"
)

// A small reader of PHP's serialised values, written from the format's description (PHP manual, serialize and unserialize), to judge
// by itself whether PHP would read a value.

// looksSerialised reports whether a program would take a text for a serialised value: it begins like one and ends like one.
func looksSerialised(v []byte) bool {
	v = bytes.TrimSpace(v)
	if len(v) < 4 || v[1] != ':' || bytes.IndexByte([]byte("aOsibdCE"), v[0]) < 0 {
		return false
	}
	last := v[len(v)-1]
	if last != ';' && last != '}' {
		return false
	}
	colon := bytes.IndexByte(v[2:], ':')
	switch v[0] {
	case 'a', 's', 'O', 'C', 'E':
		return colon > 0 && isDigits(v[2:2+colon])
	}
	return last == ';' && bytes.IndexByte(v, ';') == len(v)-1 && len(v) < 30
}

func isDigits(v []byte) bool {
	return len(v) > 0 && len(bytes.Trim(v, "0123456789")) == 0
}

// canUnserialise reports whether PHP would read a value.
func canUnserialise(v []byte) bool {
	rest, ok := unserialise(bytes.TrimLeft(v, " \t\r\n"), 0)
	return ok && len(bytes.TrimSpace(rest)) == 0
}

const deepest = 500

func unserialise(v []byte, depth int) (rest []byte, ok bool) {
	if len(v) < 2 || depth > deepest {
		return nil, false
	}
	if v[0] == 'N' {
		return v[2:], v[1] == ';'
	}
	if v[1] != ':' {
		return nil, false
	}
	switch v[0] {
	case 'i', 'b', 'd', 'r', 'R':
		text, rest, found := bytes.Cut(v[2:], []byte(";"))
		_, err := strconv.ParseFloat(strings.TrimPrefix(string(text), "-"), 64)
		return rest, found && err == nil
	case 's', 'E':
		rest, ok = counted(v[2:])
		return cut(rest, ok, ';')
	case 'a':
		n, rest, ok := length(v[2:])
		return members(rest, ok, n, depth)
	case 'O':
		rest, ok = counted(v[2:])
		if rest, ok = cut(rest, ok, ':'); !ok {
			return nil, false
		}
		n, rest, ok := length(rest)
		return members(rest, ok, n, depth)
	case 'C':
		rest, ok = counted(v[2:])
		if rest, ok = cut(rest, ok, ':'); !ok {
			return nil, false
		}
		n, rest, ok := length(rest)
		if !ok || len(rest) < n+2 || rest[0] != '{' || rest[n+1] != '}' {
			return nil, false
		}
		return rest[n+2:], true
	}
	return nil, false
}

// length reads 12: and returns the number.
func length(v []byte) (n int, rest []byte, ok bool) {
	text, rest, found := bytes.Cut(v, []byte(":"))
	n, err := strconv.Atoi(string(text))
	return n, rest, found && err == nil && n >= 0
}

// counted reads 3:"abc".
func counted(v []byte) (rest []byte, ok bool) {
	n, rest, ok := length(v)
	if !ok || len(rest) < n+2 || rest[0] != '"' || rest[n+1] != '"' {
		return nil, false
	}
	return rest[n+2:], true
}

func cut(v []byte, ok bool, mark byte) ([]byte, bool) {
	if !ok || len(v) == 0 || v[0] != mark {
		return nil, false
	}
	return v[1:], true
}

func members(v []byte, ok bool, n, depth int) (rest []byte, _ bool) {
	if v, ok = cut(v, ok, '{'); !ok {
		return nil, false
	}
	for range n {
		if len(v) == 0 || v[0] != 'i' && v[0] != 's' {
			return nil, false
		}
		if v, ok = unserialise(v, depth+1); !ok {
			return nil, false
		}
		if v, ok = unserialise(v, depth+1); !ok {
			return nil, false
		}
	}
	return cut(v, true, '}')
}
