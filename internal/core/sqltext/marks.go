package sqltext

import "math/bits"

// Marks tell where the quotes and the backslashes of a piece of SQL are: a bit for each of its bytes, made 64 at a time.
// Strings in dumps are short and have many escapes, so that looking for the next of them again and again would be most of
// the work. The zero value is that of no SQL at all; Of may be called again, for the next piece.
type Marks struct {
	src   []byte
	any   bitset // single quotes and backslashes
	quote bitset // single quotes
}

// bitset has a bit for each byte, 64 in a word, the first being the lowest.
type bitset []uint64

// next returns the first place at or after pos whose bit is set, or end when there is none before it. No more words are
// looked at than lie between, so that going through a text from place to place is going through it once.
func (b bitset) next(pos, end int) int {
	if pos >= end {
		return end
	}
	i := pos / 64
	if word := b[i] >> (pos % 64); word != 0 {
		return min(pos+bits.TrailingZeros64(word), end)
	}
	for i++; i*64 < end; i++ {
		if word := b[i]; word != 0 {
			return min(i*64+bits.TrailingZeros64(word), end)
		}
	}
	return end
}

// Of looks at a piece of SQL.
func (m *Marks) Of(sql []byte) {
	n := len(sql) / 64
	if m.src = sql; cap(m.any) <= n {
		m.any, m.quote = make(bitset, n+1+n/4), make(bitset, n+1+n/4)
	}
	m.any, m.quote = m.any[:n+1], m.quote[:n+1]
	if n > 0 {
		setMarks(m.any[:n], m.quote[:n], sql)
	}
	var rest [64]byte
	copy(rest[:], sql[n*64:])
	setMarks(m.any[n:], m.quote[n:], rest[:])
}

// Place is where a part of the SQL begins in it. The part ends where it may, but its capacity has to reach to the end of
// the whole.
func (m *Marks) Place(part []byte) int { return cap(m.src) - cap(part) }

// Next returns the first place at or after pos where a single quote or a backslash is, or end when there is none before
// it. The end is not behind that of the SQL.
func (m *Marks) Next(pos, end int) int { return m.any.next(pos, end) }

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
			n := pass(src, pos, false)
			if n < 0 {
				return -1, -1, pos
			}
			pos = n
			continue
		}
		begin = pos + 1
		for next, closed := begin, false; ; {
			if end = m.quote.next(next, len(src)); end == len(src) {
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
		end := pos + n
		if end > len(m.src) {
			return -1
		}
		at := m.Next(pos, end)
		if at == end {
			return end
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

// setMarksPlain fills in the words of both, which are as many; src has 64 bytes for each of them.
func setMarksPlain(any, quote bitset, src []byte) {
	for i := range any {
		any[i], quote[i] = 0, 0
		for bit, c := range src[i*64 : i*64+64] {
			switch c {
			case '\'':
				quote[i] |= 1 << bit
				any[i] |= 1 << bit
			case '\\':
				any[i] |= 1 << bit
			}
		}
	}
}
