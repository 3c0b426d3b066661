package phpval

import (
	"bytes"

	"nestseed/internal/core/sqltext"
)

// quoted is for a value that stands between the quotes of an SQL literal, with that literal's escapes. The lengths in it
// are those of what it means.
type quoted struct {
	is           bool
	slash, quote int // the next of each at or after the last place asked about
}

// LooksQuoted is Looks for a value that stands between the quotes of an SQL literal.
func LooksQuoted(b []byte) bool {
	at := looks(b)
	return at > 0 && (b[at] == '"' || b[at] == '{' || b[at] == '\\')
}

// RewriteQuoted is RewriteNear for a value that stands between the quotes of an SQL literal: near speaks of places in
// that text, and change is given, and gives back, strings as they stand in it. Values with S: or C: in them, whose text
// has escapes of its own, are ErrBroken here.
func RewriteQuoted(dst, src []byte, near func(from int) int, change func(dst, s []byte) []byte) ([]byte, int, error) {
	s := scanner{src: src, out: dst, change: change, near: near, quoted: quoted{is: true, slash: -1, quote: -1}}
	return s.rewrite()
}

// skip returns where n bytes of meaning end that begin at src[pos], or -1.
func (q *quoted) skip(src []byte, pos, n int) int {
	if q.slash < pos {
		q.slash = next(src, '\\', pos)
	}
	if q.quote < pos {
		q.quote = next(src, '\'', pos)
	}
	if end := pos + n; end <= q.slash && end <= q.quote {
		return end
	}
	return sqltext.Skip(src, pos, n)
}

// next returns the first place at or after from where c is, or the length of src.
func next(src []byte, c byte, from int) int {
	if i := bytes.IndexByte(src[from:], c); i >= 0 {
		return from + i
	}
	return len(src)
}
