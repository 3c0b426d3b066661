package check

import (
	"strconv"
	"strings"
	"unicode/utf8"
)

// decode undoes every way in which sites spell characters: escapes of JSON, PHP and scripts (\/, \u002f, \x2f), of addresses (%2F,
// also twice), of HTML (&#47;, &#x2F;, &sol;), of mail (=2F), and UTF-16. The text is in small letters.
func decode(text []byte) string {
	s := string(text)
	for range 3 {
		next := decodeOnce(s)
		if next == s {
			break
		}
		s = next
	}
	return s
}

func decodeOnce(s string) string {
	var out strings.Builder
	for i := 0; i < len(s); {
		r, n := decodeAt(s[i:])
		if n == 0 {
			out.WriteByte(s[i])
			i++
			continue
		}
		if r >= 0 {
			out.WriteString(strings.ToLower(string(r)))
		}
		i += n
	}
	return out.String()
}

// decodeAt returns the character that is spelled at the beginning of a text and how many bytes it takes: 0 when it is none, with -1
// when they stand for nothing.
func decodeAt(s string) (rune, int) {
	switch s[0] {
	case 0:
		return -1, 1
	case '\\':
		return decodeBackslash(s)
	case '%':
		return hexAt(s, 1, 2)
	case '=':
		if strings.HasPrefix(s, "=\r\n") {
			return -1, 3
		}
		if strings.HasPrefix(s, "=\n") {
			return -1, 2
		}
		return hexAt(s, 1, 2)
	case '&':
		return decodeReference(s)
	}
	return 0, 0
}

func decodeBackslash(s string) (rune, int) {
	if len(s) < 2 {
		return 0, 0
	}
	switch s[1] {
	case 'u':
		if r, n := hexAt(s, 2, 4); n > 0 {
			return r, n
		}
	case 'x':
		if r, n := hexAt(s, 2, 2); n > 0 {
			return r, n
		}
	case 'n', 'r', 't':
		return ' ', 2
	}
	return rune(s[1]), 2
}

var namedReferences = map[string]rune{"amp": '&', "quot": '"', "apos": '\'', "lt": '<', "gt": '>', "sol": '/', "colon": ':', "period": '.',
	"nbsp": ' ', "commat": '@', "num": '#', "quest": '?', "equals": '=', "hyphen": '-', "lowbar": '_'}

func decodeReference(s string) (rune, int) {
	end := strings.IndexByte(s[:min(len(s), 12)], ';')
	if end < 2 {
		return 0, 0
	}
	name := s[1:end]
	if r, known := namedReferences[name]; known {
		return r, end + 1
	}
	if name[0] != '#' {
		return 0, 0
	}
	base, digits := 10, name[1:]
	if strings.HasPrefix(digits, "x") {
		base, digits = 16, digits[1:]
	}
	v, err := strconv.ParseUint(digits, base, 21)
	if err != nil || !utf8.ValidRune(rune(v)) {
		return 0, 0
	}
	return rune(v), end + 1
}

// hexAt reads so many hexadecimal digits; only what is ASCII matters here.
func hexAt(s string, from, digits int) (rune, int) {
	if len(s) < from+digits {
		return 0, 0
	}
	v, err := strconv.ParseUint(s[from:from+digits], 16, 21)
	if err != nil || v >= utf8.RuneSelf || v == 0 {
		return 0, 0
	}
	return rune(v), from + digits
}
