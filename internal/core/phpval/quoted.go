package phpval

import "nestseed/internal/core/sqltext"

// LooksQuoted is Looks for a value that stands between the quotes of an SQL literal.
func LooksQuoted(b []byte) bool {
	at := looks(b)
	return at > 0 && (b[at] == '"' || b[at] == '{' || b[at] == '\\')
}

// RewriteQuoted is RewriteNear for a value that stands between the quotes of an SQL literal, in SQL that has its marks:
// near speaks of places in src, and change is given, and gives back, strings as they stand in it. The lengths in the value
// are those of what it means. Values with S: or C: in them, whose text has escapes of its own, are ErrBroken here.
func RewriteQuoted(dst []byte, sql *sqltext.Marks, src []byte, near func(from int) int,
	change func(dst, s []byte) []byte) ([]byte, int, error) {
	s := scanner{src: src, out: dst, change: change, near: near, sql: sql, base: sql.Place(src)}
	return s.rewrite()
}
