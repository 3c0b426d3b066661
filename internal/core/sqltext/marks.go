package sqltext

import "math/bits"

// Marks tell where the quotes and the backslashes of a piece of SQL are: a bit for each of its bytes, made 64 at a time.
// Strings in dumps are short and have many escapes, so that looking for the next of them again and again would be most of
// the work. The zero value is that of no SQL at all; Of may be called again, for the next piece.
type Marks struct {
	src   []byte
	words []mark // one for each 64 bytes, and one for what is left
}

// mark has a bit for each of 64 bytes, the first being the lowest.
type mark struct {
	any   uint64 // single quotes and backslashes
	quote uint64 // single quotes
}

// Of looks at a piece of SQL.
func (m *Marks) Of(sql []byte) {
	n := len(sql) / 64
	if m.src = sql; cap(m.words) <= n {
		m.words = make([]mark, n+1+n/4)
	}
	m.words = m.words[:n+1]
	if n > 0 {
		setMarks(m.words[:n], sql)
	}
	var rest [64]byte
	copy(rest[:], sql[n*64:])
	setMarks(m.words[n:], rest[:])
}

// Place is where a part of the SQL begins in it. The part ends where it may, but its capacity has to reach to the end of
// the whole.
func (m *Marks) Place(part []byte) int { return cap(m.src) - cap(part) }

// Next returns the first place at or after pos where a single quote or a backslash is, or the length of the SQL.
func (m *Marks) Next(pos int) int {
	i := pos / 64
	if word := m.words[i].any >> (pos % 64); word != 0 {
		return pos + bits.TrailingZeros64(word)
	}
	for i++; i < len(m.words); i++ {
		if word := m.words[i].any; word != 0 {
			return i*64 + bits.TrailingZeros64(word)
		}
	}
	return len(m.src)
}

// quote is Next for quotes alone.
func (m *Marks) quote(pos int) int {
	i := pos / 64
	if word := m.words[i].quote >> (pos % 64); word != 0 {
		return pos + bits.TrailingZeros64(word)
	}
	for i++; i < len(m.words); i++ {
		if word := m.words[i].quote; word != 0 {
			return i*64 + bits.TrailingZeros64(word)
		}
	}
	return len(m.src)
}

// NextString finds the next string in single quotes at or after pos, which is outside strings and comments, and returns
// where the text between its quotes begins and ends. Where there is none, or it is not closed, begin is -1, and resume is
// from where to look again when more of the SQL is there.
func (m *Marks) NextString(pos int) (begin, end, resume int) {
	for src := m.src; ; {
		for pos < len(src) && !opens[src[pos]] {
			pos++
		}
		if pos == len(src) {
			return -1, -1, pos
		}
		if src[pos] != '\'' {
			n := pass(src, pos)
			if n < 0 {
				return -1, -1, pos
			}
			pos = n
			continue
		}
		begin = pos + 1
		for next, closed := begin, false; ; {
			if end = m.quote(next); end == len(src) {
				return -1, -1, pos
			}
			if next, closed = closes(src, next, end, true); closed {
				return begin, end, next
			}
		}
	}
}

// Skip returns where n bytes of meaning end, which begin at pos in the text between quotes; -1 when that is in the middle
// of two that stand for themselves together, or behind the SQL.
func (m *Marks) Skip(pos, n int) int {
	for n > 0 {
		at := m.Next(pos)
		if pos+n <= at {
			return pos + n
		}
		if n -= at - pos; at+1 >= len(m.src) {
			return -1
		}
		if next := m.src[at+1]; m.src[at] == '\\' && (next == '%' || next == '_') {
			n--
		}
		n--
		pos = at + 2
	}
	if n < 0 {
		return -1
	}
	return pos
}

// setMarksPlain fills in words; src has 64 bytes for each of them.
func setMarksPlain(words []mark, src []byte) {
	for i := range words {
		w := &words[i]
		*w = mark{}
		for bit, c := range src[i*64 : i*64+64] {
			switch c {
			case '\'':
				w.quote |= 1 << bit
				w.any |= 1 << bit
			case '\\':
				w.any |= 1 << bit
			}
		}
	}
}
