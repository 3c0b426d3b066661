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
	"errors"
	"fmt"
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
