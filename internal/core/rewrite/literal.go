package rewrite

import (
	"bytes"

	"nestseed/internal/core/phpval"
	"nestseed/internal/core/sqltext"
)

// Begin prepares for the literals of a piece of SQL, which are given to Literal in the order in which they stand there.
// What may have to be replaced is looked for once in the whole piece.
func (w *Worker) Begin(sql []byte) {
	w.marks.Of(sql)
	w.sql = newFinder(w.r.quoted, sql)
	w.sql.marks = &w.marks
}

// Touches reports whether a part of what Begin was given contains anything that might have to be replaced.
func (w *Worker) Touches(part []byte) bool {
	if w.r.quoted == nil {
		return true // what is looked for has escapes of its own in SQL
	}
	from := w.marks.Place(part)
	at, _ := w.sql.raw(from)
	return at < from+len(part)
}

// Literal appends the text between the quotes of an SQL literal, a part of what Begin was given, rewritten as Value
// would rewrite what it means, and reports whether it changed; else dst is returned as it was.
//
// Taking the escapes apart and putting them in again is most of the work on a literal, so the text is rewritten as it
// stands: a backslash is two there, and a serialised value is walked by what its text means. Where a literal has escapes
// that dumps do not write, or is serialised but broken, it is taken apart after all.
func (w *Worker) Literal(dst, body []byte) ([]byte, bool) {
	if !w.Touches(body) {
		return dst, false
	}
	return w.touched(dst, body)
}

// touched is Literal where there is something to replace, perhaps.
func (w *Worker) touched(dst, body []byte) ([]byte, bool) {
	counted, serialised := w.forms, w.tally.Serialised
	if w.r.quoted != nil {
		w.sql.unsure = false
		out := w.literal(dst, body)
		if !w.sql.unsure {
			if bytes.Equal(out[len(dst):], body) {
				return dst, false
			}
			w.tally.Values++
			return out, true
		}
		w.forms, w.tally.Serialised = counted, serialised
	}
	w.plain = sqltext.AppendUnescaped(w.plain[:0], body)
	w.fresh = w.value(w.fresh[:0], w.plain)
	if bytes.Equal(w.plain, w.fresh) {
		return dst, false
	}
	return sqltext.AppendEscapes(dst, w.fresh), true
}

// literal is nested for text as it stands in SQL.
func (w *Worker) literal(dst, body []byte) []byte {
	from := w.marks.Place(body)
	if !phpval.LooksQuoted(body) {
		// It may be one after all, when its escapes are taken apart.
		if bytes.IndexByte([]byte(`aOsSCE\`), body[0]) >= 0 && !w.sql.usualEscapes(from, from+len(body), from, from+len(body)) {
			w.sql.unsure = true
			return append(dst, body...)
		}
		if wrapsValues(body) || embeds(body) {
			w.sql.unsure = true
			return append(dst, body...)
		}
		return w.text(dst, &w.sql, from, from+len(body), true)
	}
	l := w.enter()
	l.finder, l.base = &w.sql, from
	out, changed, err := phpval.RewriteQuoted(dst, &w.marks, body, l.near, w.inQuoted)
	w.depth--
	if err != nil {
		w.sql.unsure = true
		return append(dst, body...)
	}
	if changed > 0 {
		w.tally.Serialised++
	}
	return out
}
