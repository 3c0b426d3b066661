package phpval

import (
	"bytes"
	"encoding/hex"
	"fmt"
	"slices"
	"strconv"

	"nestseed/internal/core/sqltext"
)

// scanner walks src. When change is set it also copies: everything before flushed is in out.
type scanner struct {
	src     []byte
	pos     int
	out     []byte
	flushed int
	change  func(dst, s []byte) []byte
	near    func(from int) int // nil where any string may change
	changed int
	sql     *sqltext.Marks // set where src stands between the quotes of an SQL literal
	base    int            // where src begins in that SQL
}

// brokenAt is ErrBroken with the byte at which the value breaks off. Sites have them by the thousand.
type brokenAt int

func (e brokenAt) Error() string { return fmt.Sprintf("%v: at byte %d", ErrBroken, int(e)) }
func (e brokenAt) Unwrap() error { return ErrBroken }

// inside is an array or an object that the scanner is in.
type inside struct {
	left   int  // how many keys and values are still to come
	object bool // its keys are names of properties
}

// value scans the value that begins at pos, and all that is in it, in one loop: sites have millions of small strings. Keys
// of objects are not changed: renaming a property would change the program's meaning, not its data.
func (s *scanner) value(depth int) error {
	src, pos := s.src, s.pos
	in := inside{left: 1}
	var room [8]inside
	around := room[:0]
	next := -1 // the place up to which nothing changes
	for {
		for in.left == 0 {
			if len(around) == 0 {
				s.pos = pos
				return nil
			}
			if pos >= len(src) || src[pos] != '}' {
				return brokenAt(pos)
			}
			pos++
			in, around = around[len(around)-1], around[:len(around)-1]
		}
		in.left--
		key := in.left%2 == 1
		if len(src)-pos < 2 || src[pos+1] != ':' && src[pos] != 'N' {
			return brokenAt(pos)
		}
		tag, at := src[pos], pos+2
		if key && tag != 's' && tag != 'i' {
			return brokenAt(pos)
		}
		end := -1
		switch tag {
		case 's':
			var from, to int
			if from, to, end = s.text(at, ';'); end < 0 || s.change == nil || key && in.object {
				break
			}
			if s.near != nil && next < from {
				next = s.near(from)
			}
			if next < to {
				s.splice(at, from, to, src[from:to])
			}
		case 'i':
			end = until(src, at, digit|sign)
		case 'b':
			if at < len(src) && src[at] <= '1' {
				end = until(src, at, digit)
			}
		case 'd':
			end = until(src, at, digit|sign|float)
		case 'r', 'R':
			end = until(src, at, digit)
		case 'N':
			if src[pos+1] == ';' {
				end = at
			}
		case 'S':
			end = s.escapedText(at)
		case 'E':
			_, _, end = s.text(at, ';')
		case 'C':
			end = s.custom(at, depth+len(around))
		case 'a', 'O':
			if tag == 'O' {
				if _, _, at = s.text(at, ':'); at < 0 {
					break
				}
			}
			var n int
			if n, end = number(src, at, ":{"); end < 0 || depth+len(around) >= maxDepth {
				return brokenAt(pos)
			}
			around = append(around, in)
			in = inside{2 * n, tag == 'O'}
		}
		if end < 0 {
			return brokenAt(pos)
		}
		pos = end
	}
}

// What numbers are written with.
const (
	digit = 1 << iota
	sign
	float
)

var written = func() (t [256]uint8) {
	for c := byte('0'); c <= '9'; c++ {
		t[c] = digit
	}
	for _, c := range []byte("-+") {
		t[c] = sign
	}
	for _, c := range []byte(".eEINFA") {
		t[c] = float
	}
	return t
}()

// until returns the place behind the bytes of the given sorts at src[pos:] and a semicolon; -1 where that is not what
// stands there. It is for numbers whose value does not matter.
func until(src []byte, pos int, sorts uint8) int {
	at := pos
	for at < len(src) && written[src[at]]&sorts != 0 {
		at++
	}
	if at == pos || at >= len(src) || src[at] != ';' {
		return -1
	}
	return at + 1
}

// number reads digits and what has to follow them, and returns the place behind that; -1 where that is not what stands
// there.
func number(src []byte, pos int, then string) (n, end int) {
	at := pos
	for at < len(src) && src[at]-'0' <= 9 && n <= maxLength {
		n = n*10 + int(src[at]-'0')
		at++
	}
	if end = at + len(then); at == pos || n > maxLength || end > len(src) || string(src[at:end]) != then {
		return 0, -1
	}
	return n, end
}

// text finds LENGTH:"BYTES" at src[pos:] and the byte that has to follow, and returns where the bytes begin and end and
// the place behind it all; -1 where that is not what stands there. It is most of the work on a value.
func (s *scanner) text(pos int, then byte) (from, to, end int) {
	src, at, n := s.src, pos, 0
	for at < len(src) && src[at]-'0' <= 9 && n <= maxLength {
		n = n*10 + int(src[at]-'0')
		at++
	}
	if at == pos || n > maxLength || at+2 >= len(src) || src[at] != ':' {
		return 0, 0, -1
	}
	if at++; src[at] == '\\' && s.sql != nil {
		at++
	}
	from = at + 1
	to = from + n
	if src[at] != '"' || to >= len(src) {
		return 0, 0, -1 // what stands for a text is never shorter than it
	}
	if s.sql != nil && s.sql.Next(s.base+from, s.base+to) < s.base+to {
		if to = s.sql.Skip(s.base+from, n) - s.base; to < from || to >= len(src) {
			return 0, 0, -1
		}
	}
	if at = to; src[at] == '\\' && s.sql != nil {
		at++
	}
	if at+1 >= len(src) || src[at] != '"' || src[at+1] != then {
		return 0, 0, -1
	}
	return from, to, at + 2
}

// maxLength bounds what a length says.
const maxLength = (1 << 31) / 10

// splice passes a string, which stands in src[from:to], through change and, where it comes back different, puts it and
// its length, which stands at lengthAt, in place of what was there. It returns where in out the length is, or -1.
func (s *scanner) splice(lengthAt, from, to int, body []byte) int {
	mark := len(s.out)
	out := append(s.out, s.src[s.flushed:from]...)
	begin := len(out)
	out = s.change(out, body)
	n := len(out) - begin
	if n == len(body) && bytes.Equal(out[begin:], body) {
		s.out = out[:mark]
		return -1
	}
	if s.sql != nil {
		n = sqltext.Meant(out[begin:])
	}
	colon := from - len(`:"`)
	if s.src[colon] != ':' {
		colon-- // there is a backslash before the quote
	}
	var digits [20]byte
	length, at := strconv.AppendInt(digits[:0], int64(n), 10), begin-from+lengthAt
	s.out = slices.Replace(out, at, at+colon-lengthAt, length...)
	s.flushed = to
	s.changed++
	return at
}

// escapedText scans LENGTH:"…"; where a byte may stand as \xx, and returns the place behind it, or -1. PHP reads this form
// but no longer writes it, so a changed value is written back as s:.
func (s *scanner) escapedText(pos int) int {
	n, from := number(s.src, pos, `:"`)
	if from < 0 || s.sql != nil || n > len(s.src)-from {
		return -1
	}
	plain, at := make([]byte, n), from
	for i := range plain {
		switch rest := s.src[at:]; {
		case len(rest) > 0 && rest[0] != '\\':
			plain[i] = rest[0]
			at++
		case len(rest) < 3:
			return -1
		default:
			if _, err := hex.Decode(plain[i:], rest[1:3]); err != nil {
				return -1
			}
			at += 3
		}
	}
	if !bytes.HasPrefix(s.src[at:], []byte(`";`)) {
		return -1
	}
	if s.change != nil {
		if length := s.splice(pos, from, at, plain); length >= 0 {
			s.out[length-2] = 's'
		}
	}
	return at + 2
}

// custom scans LENGTH:"Class":LENGTH:{payload} and returns the place behind it, or -1. The payload is the class's own
// format; most are serialised values with something between, so those are mended and the rest is treated as text.
func (s *scanner) custom(pos, depth int) int {
	_, _, lengthAt := s.text(pos, ':')
	if lengthAt < 0 || s.sql != nil {
		return -1
	}
	n, from := number(s.src, lengthAt, ":{")
	if from < 0 || len(s.src)-from < n+1 || s.src[from+n] != '}' {
		return -1
	}
	end := from + n + 1
	if s.change == nil {
		return end
	}
	fresh, changed := rewritePayload(s.src[from:from+n], s.change, depth)
	if changed > 0 {
		s.out = append(s.out, s.src[s.flushed:lengthAt]...)
		s.out = strconv.AppendInt(s.out, int64(len(fresh)), 10)
		s.out = append(s.out, ':', '{')
		s.out = append(s.out, fresh...)
		s.out = append(s.out, '}')
		s.flushed = end
		s.changed += changed
	}
	return end
}

func rewritePayload(payload []byte, change func(dst, s []byte) []byte, depth int) (out []byte, changed int) {
	plainFrom := 0
	plain := func(to int) {
		if plainFrom == to {
			return
		}
		fresh := change(nil, payload[plainFrom:to])
		if !bytes.Equal(fresh, payload[plainFrom:to]) {
			changed++
		}
		out = append(out, fresh...)
	}
	for i := 0; i < len(payload); {
		if i+1 < len(payload) && payload[i+1] == ':' && Looks(payload[i:]) {
			s := scanner{src: payload, pos: i, change: change, flushed: i}
			if s.value(depth+1) == nil {
				plain(i)
				out = append(append(out, s.out...), payload[s.flushed:s.pos]...)
				changed += s.changed
				i, plainFrom = s.pos, s.pos
				continue
			}
		}
		i++
	}
	plain(len(payload))
	return out, changed
}
