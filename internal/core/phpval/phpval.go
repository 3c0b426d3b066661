// Package phpval reads and changes values in the format that PHP's serialize() writes.
//
// Content-managed sites keep settings as such values in database cells. Every string in
// them carries its length in bytes, so replacing text without mending the lengths makes
// PHP refuse the whole value: the classic way a moved site loses its theme settings.
//
// The package never builds a tree. A scanner walks the bytes once; Rewrite copies them,
// handing each string to a function and writing the length of what comes back; Lookup and
// Set walk to one place and splice it.
//
//	out, n, err := phpval.Rewrite(nil, []byte(`s:5:"a.old";`), func(dst, s []byte) []byte {
//		return append(dst, bytes.ReplaceAll(s, []byte("old"), []byte("newer"))...)
//	})
//	// out is s:7:"a.newer"; and n is 1
//
// Format: as written by php_var_serialize (ext/standard/var.c) and described in the PHP
// manual under serialize(): N; b: i: d: s: S: a: O: C: E: r: R:
//
// The package never runs or instantiates anything, and never guesses: a value that does
// not scan to its last byte is an error and is left to the caller untouched.
package phpval

import (
	"bytes"
	"errors"
	"fmt"
	"strconv"

	"nestseed/internal/core/sqltext"
)

// ErrBroken says that the bytes are not one whole serialised value.
var ErrBroken = errors.New("not a whole serialised PHP value")

// ErrNoSuchPath says that a lookup found no value at the path.
var ErrNoSuchPath = errors.New("no value at this path")

// maxDepth bounds nesting, so that hostile input cannot exhaust the stack. PHP's own
// unserialize() stops at 4096 (unserialize_max_depth).
const maxDepth = 4096

// Looks reports whether b starts like a serialised value that can contain text. It is a
// cheap test that decides which values deserve a real scan; Valid is the judgement.
func Looks(b []byte) bool {
	at := looks(b)
	return at > 0 && (b[at] == '"' || b[at] == '{')
}

// looks returns the place behind the type and the length that b begins with, or 0.
func looks(b []byte) int {
	if len(b) < 4 || b[1] != ':' {
		return 0
	}
	switch b[0] {
	case 'a', 'O', 's', 'S', 'C', 'E':
	default:
		return 0
	}
	i := 2
	for i < len(b) && b[i] >= '0' && b[i] <= '9' {
		i++
	}
	if i == 2 || i+1 >= len(b) || b[i] != ':' {
		return 0
	}
	return i + 1
}

// Valid reports whether b is exactly one serialised value.
func Valid(b []byte) bool {
	s := scanner{src: b}
	return s.value(0) == nil && s.pos == len(b)
}

// Rewrite appends to dst the value in src with every string passed through change, lengths
// mended. change appends the new text of s to the slice it is given. Array keys, string values
// and the payloads of C: objects are passed; class names and property names are not.
// It returns the grown slice and the number of strings that came back different.
// On ErrBroken dst is returned as it was.
func Rewrite(dst, src []byte, change func(dst, s []byte) []byte) ([]byte, int, error) {
	return RewriteNear(dst, src, nil, change)
}

// RewriteNear is Rewrite for changes that are few and whose places are known: near returns where in src, at or after a
// place, the next one may be, and strings before that are passed over.
func RewriteNear(dst, src []byte, near func(from int) int, change func(dst, s []byte) []byte) ([]byte, int, error) {
	s := scanner{src: src, out: dst, change: change, near: near}
	return s.rewrite()
}

func (s *scanner) rewrite() ([]byte, int, error) {
	dst := s.out
	if err := s.value(0); err != nil {
		return dst, 0, err
	}
	if s.pos != len(s.src) {
		return dst, 0, fmt.Errorf("%w: %d bytes after its end", ErrBroken, len(s.src)-s.pos)
	}
	return append(s.out, s.src[s.flushed:]...), s.changed, nil
}

// scanner walks src. When change is set it also copies: everything before flushed is in out.
type scanner struct {
	src     []byte
	pos     int
	out     []byte
	flushed int
	change  func(dst, s []byte) []byte
	near    func(from int) int // nil where any string may change
	next    int                // what near said last
	changed int
	quoted  quoted
}

func (s *scanner) broken() error { return brokenAt(s.pos) }

// brokenAt is ErrBroken with the byte at which the value breaks off. Sites have them by the thousand.
type brokenAt int

func (e brokenAt) Error() string { return fmt.Sprintf("%v: at byte %d", ErrBroken, int(e)) }
func (e brokenAt) Unwrap() error { return ErrBroken }

// literal consumes the given bytes.
func (s *scanner) literal(want string) error {
	if len(s.src)-s.pos < len(want) || string(s.src[s.pos:s.pos+len(want)]) != want {
		return s.broken()
	}
	s.pos += len(want)
	return nil
}

// semicolon consumes one.
func (s *scanner) semicolon() error {
	if s.pos >= len(s.src) || s.src[s.pos] != ';' {
		return s.broken()
	}
	s.pos++
	return nil
}

// number consumes decimal digits and the byte after them.
func (s *scanner) number(end byte) (int, error) {
	start, n := s.pos, 0
	for s.pos < len(s.src) && s.src[s.pos] >= '0' && s.src[s.pos] <= '9' {
		if n > maxLength {
			return 0, s.broken()
		}
		n = n*10 + int(s.src[s.pos]-'0')
		s.pos++
	}
	if s.pos == start || s.pos >= len(s.src) || s.src[s.pos] != end {
		return 0, s.broken()
	}
	s.pos++
	return n, nil
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

// until consumes through the next semicolon, behind bytes of the given sorts; used for numbers whose value does not matter.
func (s *scanner) until(sorts uint8) error {
	start := s.pos
	for s.pos < len(s.src) && written[s.src[s.pos]]&sorts != 0 {
		s.pos++
	}
	if s.pos == start || s.pos >= len(s.src) || s.src[s.pos] != ';' {
		return s.broken()
	}
	s.pos++
	return nil
}

func (s *scanner) value(depth int) error {
	if depth > maxDepth || len(s.src)-s.pos < 2 {
		return s.broken()
	}
	tag := s.src[s.pos]
	if tag == 'N' {
		return s.literal("N;")
	}
	lengthAt := s.pos + 2
	if s.src[s.pos+1] != ':' {
		return s.broken()
	}
	s.pos += 2
	switch tag {
	case 'b':
		if s.pos < len(s.src) && s.src[s.pos] > '1' {
			return s.broken()
		}
		return s.until(digit)
	case 'i':
		return s.until(digit | sign)
	case 'd':
		return s.until(digit | sign | float)
	case 'r', 'R':
		return s.until(digit)
	case 's':
		if _, err := s.text(lengthAt, s.change); err != nil {
			return err
		}
		return s.semicolon()
	case 'S':
		return s.escapedText(lengthAt)
	case 'E':
		if _, err := s.text(lengthAt, nil); err != nil {
			return err
		}
		return s.literal(";")
	case 'a':
		n, err := s.number(':')
		if err != nil {
			return err
		}
		return s.members(n, depth, s.change)
	case 'O':
		if _, err := s.text(lengthAt, nil); err != nil {
			return err
		}
		if err := s.literal(":"); err != nil {
			return err
		}
		n, err := s.number(':')
		if err != nil {
			return err
		}
		return s.members(n, depth, nil)
	case 'C':
		return s.custom(depth)
	}
	s.pos -= 2
	return s.broken()
}

// members scans {key value …}. Keys are passed to keyChange, which is nil for objects: renaming a
// property would change the program's meaning, not its data.
func (s *scanner) members(n, depth int, keyChange func(dst, s []byte) []byte) error {
	if err := s.literal("{"); err != nil {
		return err
	}
	for range n {
		if len(s.src)-s.pos < 2 {
			return s.broken()
		}
		switch s.src[s.pos] {
		case 'i':
			s.pos += 2
			if err := s.until(digit | sign); err != nil {
				return err
			}
		case 's':
			s.pos += 2
			if s.src[s.pos-1] != ':' {
				return s.broken()
			}
			if _, err := s.text(s.pos, keyChange); err != nil {
				return err
			}
			if err := s.semicolon(); err != nil {
				return err
			}
		default:
			return s.broken()
		}
		if err := s.value(depth + 1); err != nil {
			return err
		}
	}
	return s.literal("}")
}

// text scans LENGTH:"BYTES", having its length at lengthAt, and returns the bytes. It is most of the work on a value, so
// what it does for each string is written out.
func (s *scanner) text(lengthAt int, change func(dst, s []byte) []byte) ([]byte, error) {
	src, at, n := s.src, s.pos, 0
	for at < len(src) && src[at]-'0' <= 9 && n <= maxLength {
		n = n*10 + int(src[at]-'0')
		at++
	}
	if at == s.pos || n > maxLength || at+2 >= len(src) || src[at] != ':' {
		return nil, s.broken()
	}
	if at++; src[at] == '\\' && s.quoted.is {
		at++
	}
	if src[at] != '"' {
		return nil, s.broken()
	}
	from := at + 1
	end := from + n
	if s.quoted.is {
		end = s.quoted.skip(src, from, n)
	}
	if at = end; at >= 0 && at+1 < len(src) && src[at] == '\\' && s.quoted.is {
		at++
	}
	if at < 0 || at >= len(src) || src[at] != '"' {
		return nil, s.broken()
	}
	s.pos = at + 1
	body := src[from:end]
	if change == nil {
		return body, nil
	}
	if s.near != nil {
		if s.next < from {
			s.next = s.near(from)
		}
		if s.next >= end {
			return body, nil
		}
	}
	s.splice(lengthAt, s.pos, body, change)
	return body, nil
}

// maxLength bounds what a length says.
const maxLength = (1 << 31) / 10

// room is for the longest length and what stands between it and the string.
const room = len(`9223372036854775807:\"`)

// splice passes a string through change and, where it comes back different, puts LENGTH:"…" in place of what begins at
// src[lengthAt] and ends before src[end]. It returns where in out that begins, or -1.
func (s *scanner) splice(lengthAt, end int, body []byte, change func(dst, s []byte) []byte) int {
	mark := len(s.out)
	out := append(s.out, s.src[s.flushed:lengthAt]...)
	at := len(out)
	out = change(append(out, make([]byte, room)...), body) // its length is known afterwards
	fresh := out[at+room:]
	if bytes.Equal(fresh, body) {
		s.out = out[:mark]
		return -1
	}
	n, quote := len(fresh), `"`
	if s.quoted.is {
		n = sqltext.Meant(fresh)
		if s.src[end-2] == '\\' {
			quote = `\"`
		}
	}
	out = append(strconv.AppendInt(out[:at], int64(n), 10), ':')
	out = append(append(append(out, quote...), fresh...), quote...)
	s.out, s.flushed = out, end
	s.changed++
	return at
}

// escapedText scans S:LENGTH:"…"; where a byte may stand as \xx. PHP reads this form but no
// longer writes it, so a changed value is written back as s:.
func (s *scanner) escapedText(lengthAt int) error {
	if s.quoted.is {
		return s.broken()
	}
	n, err := s.number(':')
	if err != nil {
		return err
	}
	if err := s.literal(`"`); err != nil {
		return err
	}
	if n > len(s.src)-s.pos {
		return s.broken()
	}
	plain := make([]byte, 0, n)
	for range n {
		if s.pos >= len(s.src) {
			return s.broken()
		}
		c := s.src[s.pos]
		if c != '\\' {
			plain = append(plain, c)
			s.pos++
			continue
		}
		if len(s.src)-s.pos < 3 {
			return s.broken()
		}
		v, err := strconv.ParseUint(string(s.src[s.pos+1:s.pos+3]), 16, 8)
		if err != nil {
			return s.broken()
		}
		plain = append(plain, byte(v))
		s.pos += 3
	}
	if err := s.literal(`";`); err != nil {
		return err
	}
	if s.change == nil {
		return nil
	}
	if at := s.splice(lengthAt, s.pos-1, plain, s.change); at >= 0 {
		s.out[at-2] = 's'
	}
	return nil
}

// custom scans C:LEN:"Class":LEN:{payload}. The payload is the class's own format; most are
// serialised values with something between, so those are mended and the rest is treated as text.
func (s *scanner) custom(depth int) error {
	if s.quoted.is {
		return s.broken()
	}
	if _, err := s.text(s.pos, nil); err != nil {
		return err
	}
	if err := s.literal(":"); err != nil {
		return err
	}
	lengthAt := s.pos
	n, err := s.number(':')
	if err != nil {
		return err
	}
	if err := s.literal("{"); err != nil {
		return err
	}
	if n < 0 || len(s.src)-s.pos < n+1 || s.src[s.pos+n] != '}' {
		return s.broken()
	}
	payload := s.src[s.pos : s.pos+n]
	s.pos += n + 1
	if s.change == nil {
		return nil
	}
	fresh, changed := rewritePayload(payload, s.change, depth)
	if changed > 0 {
		s.out = append(s.out, s.src[s.flushed:lengthAt]...)
		s.out = strconv.AppendInt(s.out, int64(len(fresh)), 10)
		s.out = append(s.out, ':', '{')
		s.out = append(s.out, fresh...)
		s.out = append(s.out, '}')
		s.flushed = s.pos
		s.changed += changed
	}
	return nil
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
