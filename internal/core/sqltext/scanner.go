package sqltext

import (
	"bytes"
	"fmt"
	"io"
)

// Scanner splits a script into statements while it reads, holding one statement at a time.
// It knows quoted strings and identifiers, the three comment forms, and the DELIMITER lines that
// clients use around triggers and routines.
type Scanner struct {
	r         io.Reader
	buf       []byte
	start     int // of what has not been handed out
	end       int
	max       int
	delimiter []byte
	plain     bool // strings have no escapes
	stmt      []byte
	err       error
	eof       bool
}

// NewScanner reads statements of at most maxBytes from r.
func NewScanner(r io.Reader, maxBytes int) *Scanner {
	return &Scanner{r: r, buf: make([]byte, 256<<10), max: maxBytes, delimiter: []byte(";")}
}

// NewScanner reads statements of the dialect.
func (d *Dialect) NewScanner(r io.Reader, maxBytes int) *Scanner {
	s := NewScanner(r, maxBytes)
	s.plain = !d.escapes
	return s
}

// Statement returns the statement found by Scan, without its delimiter. It is valid until the next Scan.
func (s *Scanner) Statement() []byte { return s.stmt }

// Err returns the error that ended scanning, or nil at the end of the script.
func (s *Scanner) Err() error { return s.err }

// Scan finds the next statement. It returns false at the end of the script or on an error.
func (s *Scanner) Scan() bool {
	for s.err == nil {
		s.skip()
		if s.err != nil || s.start == s.end {
			return false
		}
		if s.directive() {
			continue
		}
		from := 0
		for {
			n, resume := statementEnd(s.buf[s.start:s.end], from, s.delimiter, s.plain)
			if n >= 0 {
				s.stmt = bytes.TrimSpace(s.buf[s.start : s.start+n])
				s.start += n + len(s.delimiter)
				if len(s.stmt) == 0 {
					break
				}
				return true
			}
			from = resume
			if !s.more() {
				s.stmt = bytes.TrimSpace(s.buf[s.start:s.end])
				s.start = s.end
				return s.err == nil && len(s.stmt) > 0
			}
		}
	}
	return false
}

// more reads further bytes behind those that are there; false at the end or on an error.
func (s *Scanner) more() bool {
	if s.eof || s.err != nil {
		return false
	}
	if s.start > 0 && s.end == len(s.buf) {
		s.end = copy(s.buf, s.buf[s.start:s.end])
		s.start = 0
	}
	if s.end == len(s.buf) {
		if len(s.buf) >= s.max {
			s.err = fmt.Errorf("%w: a statement is longer than %d bytes", ErrSyntax, s.max)
			return false
		}
		grown := make([]byte, min(2*len(s.buf), s.max))
		s.end = copy(grown, s.buf[s.start:s.end])
		s.buf, s.start = grown, 0
	}
	n, err := s.r.Read(s.buf[s.end:])
	s.end += n
	if err == io.EOF {
		s.eof = true
		return n > 0
	}
	s.err = err
	return err == nil
}

// skip passes white space and whole comments between statements. Conditional comments (/*! … */)
// are statements in disguise and are not skipped.
func (s *Scanner) skip() {
	for {
		s.start = skipSpace(s.buf[:s.end], s.start)
		rest := s.buf[s.start:s.end]
		if len(rest) < 3 && s.more() {
			continue
		}
		n := commentEnd(rest)
		switch {
		case n > 0:
			s.start += n
		case n < 0 && s.more():
		case n < 0:
			s.start = s.end
			return
		default:
			if s.start < s.end || !s.more() {
				return
			}
		}
	}
}

// commentEnd returns the length of the comment that src starts with, 0 if there is none, -1 if it
// does not end within src.
func commentEnd(src []byte) int {
	var end string
	switch {
	case bytes.HasPrefix(src, []byte("/*")) && !bytes.HasPrefix(src, []byte("/*!")) && !bytes.HasPrefix(src, []byte("/*M!")):
		end = "*/"
	case len(src) > 0 && src[0] == '#', bytes.HasPrefix(src, []byte("--")) && (len(src) == 2 || src[2] <= ' '):
		end = "\n"
	default:
		return 0
	}
	i := bytes.Index(src, []byte(end))
	if i < 0 {
		return -1
	}
	return i + len(end)
}

// directive consumes a DELIMITER line.
func (s *Scanner) directive() bool {
	const word = "DELIMITER "
	for s.end-s.start < len(word) && s.more() {
	}
	line := s.buf[s.start:s.end]
	if len(line) < len(word) || !bytes.EqualFold(line[:len(word)], []byte(word)) {
		return false
	}
	for bytes.IndexByte(s.buf[s.start:s.end], '\n') < 0 && s.more() {
	}
	line = s.buf[s.start:s.end]
	if n := bytes.IndexByte(line, '\n'); n >= 0 {
		line = line[:n]
	}
	s.start += len(line)
	if d := bytes.TrimSpace(line[len(word):]); len(d) > 0 {
		s.delimiter = bytes.Clone(d)
	}
	return true
}

// statementEnd looks for the delimiter outside quotes and comments, from the given offset. It returns
// its place, or -1 and the offset to go on from when more bytes are there.
func statementEnd(src []byte, from int, delimiter []byte, plain bool) (end, resume int) {
	for i := from; i < len(src); {
		switch c := src[i]; {
		case opens[c]:
			n := pass(src, i, plain)
			if n < 0 || n == len(src) && c != '#' && c != '-' && c != '/' {
				return -1, i // the quote may be doubled by the next byte
			}
			i = n
		case c == delimiter[0] && bytes.HasPrefix(src[i:], delimiter):
			return i, 0
		case c == delimiter[0] && len(src)-i < len(delimiter):
			return -1, i
		default:
			i++
		}
	}
	return -1, len(src)
}

// opens are the bytes that a quoted text or a comment can begin with.
var opens = [256]bool{'\'': true, '"': true, '`': true, '#': true, '-': true, '/': true, '$': true}

// pass returns the place behind the quoted text or the comment that begins at src[i], or behind the byte there when none
// does; -1 when it does not end, or it takes more bytes to tell.
func pass(src []byte, i int, plain bool) int {
	switch c := src[i]; c {
	case '\'', '"', '`':
		escaped := c != '`' && !plain || plain && c == '\'' && i > 0 && src[i-1] == 'E' // E'…' of PostgreSQL
		return closing(src, i+1, c, escaped)
	}
	if src[i] == '$' && (!plain || i > 0 && identifierByte(src[i-1])) {
		return i + 1
	}
	if len(src)-i < 3 {
		return -1
	}
	if src[i] == '$' {
		return passDollars(src, i)
	}
	n := commentEnd(src[i:])
	if n < 0 {
		return -1
	}
	return i + max(n, 1)
}

// passDollars is pass for a string in dollars.
func passDollars(src []byte, i int) int {
	tag := dollarTag(src[i:])
	if tag == nil && bytes.IndexFunc(src[i+1:], func(r rune) bool { return r < 0x80 && !identifierByte(byte(r)) }) < 0 {
		return -1
	}
	if tag == nil {
		return i + 1
	}
	n := bytes.Index(src[i+len(tag):], tag)
	if n < 0 {
		return -1
	}
	return i + len(tag) + n + len(tag)
}
