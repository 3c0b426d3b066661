package sqltext

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"strconv"
)

// Script reads a script of any size and of any origin: statements one by one, the rows of an INSERT one by
// one, so that a statement of gigabytes on one line takes no more memory than its longest row.
//
//	s := NewScript(r)
//	for s.Next() {
//		if ins := s.Insertion(); ins != nil {
//			for s.Row(&row) { … }      // or s.Skip()
//		} else {
//			use(s.Statement())         // conditional comments resolved, others taken out
//		}
//	}
//	err := s.Err()
//
// Values of rows must be literals: a function call or a sub-query is ErrSyntax. DELIMITER lines of the
// command-line clients are understood.
type Script struct {
	r          io.Reader
	buf        []byte
	start, end int
	base       int64 // offset of buf[0] in the script
	eof        bool
	delimiter  []byte
	err        error
	text       []byte
	ins        *Insertion
	inRows     bool
	rowsRead   bool // of this statement at least one
}

// Insertion is the head of an INSERT or REPLACE statement.
type Insertion struct {
	Table   string
	Columns []string // empty when the statement does not name them
}

// Limits of what is held in memory.
const (
	scriptBuffer  = 1 << 20
	MaxRowBytes   = 64 << 20 // of one row, escaped
	maxStatement  = 16 << 20 // of a statement that is not an INSERT
	maxInsertHead = 256 << 10
)

// NewScript reads a script from its beginning.
func NewScript(r io.Reader) *Script {
	return &Script{r: r, buf: make([]byte, scriptBuffer), delimiter: []byte(";")}
}

// NewRows reads rows from the middle of a script: r begins with a row's opening parenthesis, and Row goes on
// to the end of that statement.
func NewRows(r io.Reader, delimiter string) *Script {
	s := NewScript(r)
	s.delimiter, s.inRows, s.ins = []byte(delimiter), true, &Insertion{}
	return s
}

// Err returns what was wrong, if anything.
func (s *Script) Err() error { return s.err }

// Offset returns where in the script the next unread byte is.
func (s *Script) Offset() int64 { return s.base + int64(s.start) }

// Delimiter returns what ends statements at this place.
func (s *Script) Delimiter() string { return string(s.delimiter) }

// Statement returns the statement, unless it is an INSERT. It is valid until the next call of Next.
func (s *Script) Statement() []byte { return s.text }

// Insertion returns the head of the statement if it is an INSERT or REPLACE, else nil.
func (s *Script) Insertion() *Insertion { return s.ins }

func (s *Script) fail(format string, args ...any) bool {
	if s.err == nil {
		s.err = fmt.Errorf("%w: at byte %d: %s", ErrSyntax, s.Offset(), fmt.Sprintf(format, args...))
	}
	return false
}

// more reads further bytes behind those that are there; false at the end or on an error. limit bounds what may
// be held from start on.
func (s *Script) more(limit int, what string) bool {
	if s.eof || s.err != nil {
		return false
	}
	if s.end == len(s.buf) {
		if s.start > 0 {
			s.base += int64(s.start)
			s.end = copy(s.buf, s.buf[s.start:s.end])
			s.start = 0
		} else {
			if len(s.buf) >= limit {
				return s.fail("%s is longer than %d bytes", what, limit)
			}
			grown := make([]byte, min(2*len(s.buf), limit))
			s.end = copy(grown, s.buf[:s.end])
			s.buf = grown
		}
	}
	for range 100 {
		n, err := s.r.Read(s.buf[s.end:])
		s.end += n
		if err == io.EOF {
			s.eof = true
			return n > 0
		}
		if err != nil {
			s.err = err
			return false
		}
		if n > 0 {
			return true
		}
	}
	s.err = io.ErrNoProgress
	return false
}

// Next finds the next statement.
func (s *Script) Next() bool {
	if s.inRows {
		s.Skip()
	}
	s.text, s.ins = nil, nil
	for s.err == nil {
		s.space()
		if s.err != nil || s.start == s.end {
			return false
		}
		if s.delimiterLine() {
			continue
		}
		switch found, ok := s.insertHead(); {
		case s.err != nil:
			return false
		case ok:
			s.ins, s.inRows, s.rowsRead = found, true, false
			return true
		}
		if !s.whole() {
			return false
		}
		if len(s.text) > 0 {
			return true
		}
	}
	return false
}

// space passes white space, comments and stray delimiters between statements.
func (s *Script) space() {
	for s.err == nil {
		s.start = skipSpace(s.buf[:s.end], s.start)
		rest := s.buf[s.start:s.end]
		if len(rest) < 4 && s.more(maxStatement, "a comment") {
			continue
		}
		if bytes.HasPrefix(rest, []byte("\xef\xbb\xbf")) {
			s.start += 3
			continue
		}
		n := commentEnd(rest)
		switch {
		case n > 0:
			s.start += n
		case n < 0 && s.more(maxStatement, "a comment"):
		case n < 0:
			s.start = s.end
			return
		case len(rest) > 0 && bytes.HasPrefix(rest, s.delimiter):
			s.start += len(s.delimiter)
		case len(rest) > 0 || !s.more(maxStatement, "a comment"):
			return
		}
	}
}

// delimiterLine consumes a DELIMITER line.
func (s *Script) delimiterLine() bool {
	const word = "DELIMITER"
	for s.end-s.start <= len(word) && s.more(maxStatement, "a line") {
	}
	line := s.buf[s.start:s.end]
	if len(line) <= len(word) || !bytes.EqualFold(line[:len(word)], []byte(word)) || line[len(word)] != ' ' && line[len(word)] != '\t' {
		return false
	}
	for bytes.IndexByte(s.buf[s.start:s.end], '\n') < 0 && s.more(64<<10, "a DELIMITER line") {
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

// insertHead reads INSERT [LOW_PRIORITY|DELAYED|IGNORE] INTO t (…) VALUES, when the statement is one.
func (s *Script) insertHead() (*Insertion, bool) {
	for {
		p := head{src: s.buf[s.start:s.end]}
		if !p.optional("INSERT") && !p.optional("REPLACE") {
			if len(p.src) < 8 && s.more(maxStatement, "a statement") {
				continue
			}
			return nil, false
		}
		for p.optional("LOW_PRIORITY") || p.optional("DELAYED") || p.optional("HIGH_PRIORITY") || p.optional("IGNORE") {
		}
		p.optional("INTO")
		ins := &Insertion{Table: p.qualified()}
		if p.peek() == '(' {
			p.pos++
			for p.err == nil {
				ins.Columns = append(ins.Columns, p.identifier())
				if p.peek() == ')' {
					p.pos++
					break
				}
				p.byte(',')
			}
		}
		if p.err == nil && !p.optional("VALUES") {
			p.word("VALUE")
		}
		if p.err == nil && p.peek() == '(' {
			s.start += p.pos
			return ins, true
		}
		if s.end-s.start < maxInsertHead && s.more(maxInsertHead+scriptBuffer, "the head of an INSERT") {
			continue
		}
		if s.err == nil {
			s.fail("an INSERT without VALUES: %.60q", p.src[:min(60, len(p.src))])
		}
		return nil, false
	}
}

// whole reads a statement that is not an INSERT.
func (s *Script) whole() bool {
	from := 0
	for {
		n, resume := statementEnd(s.buf[s.start:s.end], from, s.delimiter, false)
		if n >= 0 {
			s.text = Resolve(s.buf[s.start : s.start+n])
			s.start += n + len(s.delimiter)
			return true
		}
		from = resume
		if !s.more(maxStatement, "a statement") {
			if s.err != nil {
				return false
			}
			s.text = Resolve(s.buf[s.start:s.end])
			s.start = s.end
			return true
		}
	}
}

// Row reads the next row of an INSERT into *row, reusing it, and reports whether there was one. The literals
// are valid until the next call.
func (s *Script) Row(row *[]Literal) bool {
	if !s.inRows || s.err != nil {
		return false
	}
	if s.rowsRead && !s.between() {
		return false
	}
	for {
		n, err := nextRow(s.buf[s.start:s.end], row)
		switch {
		case err == nil:
			s.start += n
			s.rowsRead = true
			return true
		case !errors.Is(err, errMore):
			return s.fail("%v", err)
		}
		if !s.more(MaxRowBytes, "a row") {
			return s.fail("the script ends within a row")
		}
	}
}

// between passes what stands between rows: a comma, or the end of the statement, which ends the rows.
func (s *Script) between() bool {
	for {
		s.start = skipSpace(s.buf[:s.end], s.start)
		rest := s.buf[s.start:s.end]
		switch {
		case len(rest) == 0 || len(rest) < len(s.delimiter) && rest[0] == s.delimiter[0]:
			if !s.more(MaxRowBytes, "a row") {
				s.inRows = false
				return false
			}
		case rest[0] == ',':
			s.start++
			for {
				if s.start = skipSpace(s.buf[:s.end], s.start); s.start < s.end || !s.more(MaxRowBytes, "a row") {
					return s.err == nil
				}
			}
		case bytes.HasPrefix(rest, s.delimiter):
			s.start += len(s.delimiter)
			s.inRows = false
			return false
		default:
			return s.fail("after a row comes %.40q, and only plain rows of values are taken over", rest[:min(40, len(rest))])
		}
	}
}

// Skip passes the rows of an INSERT without looking at their values, and returns how many there were.
func (s *Script) Skip() (rows int64) {
	depth := 0
	for s.inRows && s.err == nil {
		src := s.buf[:s.end]
		i := s.start
		wait := false
		for i < len(src) && !wait {
			switch c := src[i]; {
			case c == '\'':
				n := closing(src, i+1, '\'', true)
				if n < 0 || n == len(src) && !s.eof {
					wait = true // i stays at the quote until the string is there as a whole
					continue
				}
				i = n
			case c == '(':
				depth++
				i++
			case c == ')':
				if depth--; depth == 0 {
					rows++
				}
				i++
			case depth <= 0 && c == s.delimiter[0]:
				if len(src)-i < len(s.delimiter) && !s.eof {
					wait = true
					continue
				}
				if bytes.HasPrefix(src[i:], s.delimiter) {
					s.start = i + len(s.delimiter)
					s.inRows = false
					return rows
				}
				i++
			default:
				i++
			}
		}
		s.start = i
		if !s.more(MaxRowBytes, "a value") {
			if s.start < s.end {
				s.fail("the script ends within a string")
			}
			s.inRows = false
		}
	}
	return rows
}

// errMore says that a row goes on behind the bytes that are there.
var errMore = errors.New("more bytes are needed")

// nextRow takes the row that src begins with apart and returns its length.
func nextRow(src []byte, row *[]Literal) (int, error) {
	*row = (*row)[:0]
	if len(src) == 0 {
		return 0, errMore
	}
	if src[0] != '(' {
		return 0, fmt.Errorf("%.30q stands where a row should begin", src[:min(30, len(src))])
	}
	pos := 1
	for {
		pos = skipSpace(src, pos)
		end, err := valueEnd(src, pos)
		if err != nil {
			return 0, err
		}
		*row = append(*row, Literal(src[pos:end]))
		pos = skipSpace(src, end)
		if pos >= len(src) {
			return 0, errMore
		}
		switch src[pos] {
		case ',':
			pos++
		case ')':
			return pos + 1, nil
		default:
			return 0, fmt.Errorf("%.30q is not a plain value, and only those are taken over", src[end:min(end+30, len(src))])
		}
	}
}

// valueEnd returns where the literal at pos ends: a string, perhaps with a character set in front, a number, a
// hexadecimal or bit value, NULL, TRUE or FALSE.
func valueEnd(src []byte, pos int) (int, error) {
	if pos >= len(src) {
		return 0, errMore
	}
	quoted := func(at int) (int, error) {
		end := closing(src, at+1, '\'', true)
		if end < 0 || end == len(src) {
			return 0, errMore
		}
		return end, nil
	}
	c := src[pos]
	if c == '\'' {
		return quoted(pos)
	}
	end := pos
	if c == '-' || c == '+' {
		end++
	}
	for end < len(src) && (identifierByte(src[end]) || src[end] == '.' || (src[end] == '-' || src[end] == '+') && end > pos &&
		src[end-1]|0x20 == 'e') {
		end++
	}
	if end == len(src) {
		return 0, errMore
	}
	word := src[pos:end]
	at := skipSpace(src, end)
	if c == '_' || len(word) == 1 && bytes.IndexByte([]byte("xXbBnN"), c) >= 0 {
		if at == len(src) {
			return 0, errMore
		}
		if src[at] == '\'' {
			return quoted(at)
		}
		if c == '_' && bytes.HasPrefix(src[at:], []byte("0x")) {
			for end = at; end < len(src) && identifierByte(src[end]); end++ {
			}
			if end == len(src) {
				return 0, errMore
			}
			return end, nil
		}
	}
	if len(word) > 0 && plainWord(word) {
		return end, nil
	}
	return 0, fmt.Errorf("%.30q is not a plain value, and only those are taken over", src[pos:min(pos+30, len(src))])
}

// plainWord reports whether a word is a number, NULL, TRUE or FALSE.
func plainWord(w []byte) bool {
	if IsNumber(w) || len(w) > 2 && w[0] == '0' && w[1]|0x20 == 'x' || len(w) > 2 && w[0] == '0' && w[1] == 'b' {
		return true
	}
	return bytes.EqualFold(w, []byte("NULL")) || bytes.EqualFold(w, []byte("TRUE")) || bytes.EqualFold(w, []byte("FALSE"))
}

// IsNumber reports whether b is a decimal number as SQL writes them.
func IsNumber(b []byte) bool {
	i, digits := 0, 0
	if i < len(b) && (b[i] == '-' || b[i] == '+') {
		i++
	}
	for dot := false; i < len(b) && (b[i] >= '0' && b[i] <= '9' || b[i] == '.' && !dot); i++ {
		if b[i] == '.' {
			dot = true
		} else {
			digits++
		}
	}
	if i == len(b) || digits == 0 {
		return digits > 0
	}
	if b[i]|0x20 != 'e' {
		return false
	}
	i++
	if i < len(b) && (b[i] == '-' || b[i] == '+') {
		i++
	}
	from := i
	for ; i < len(b) && b[i] >= '0' && b[i] <= '9'; i++ {
	}
	return i == len(b) && i > from
}

// qualified reads a name that may have its database in front.
func (p *head) qualified() string {
	name := p.identifier()
	if p.err == nil && p.pos < len(p.src) && p.src[p.pos] == '.' {
		p.pos++
		name = p.identifier()
	}
	return name
}

// The server whose reading of conditional comments is followed: MariaDB 10.11 (manual, "Comment Syntax").
const (
	actsAs    = 101100
	mysqlFrom = 50700 // from here MariaDB passes over comments that are meant for MySQL
	mysqlTo   = 99999
)

// Resolve returns a statement with its comments taken out, and the text of those conditional comments put in
// that a server would run.
func Resolve(stmt []byte) []byte {
	out := make([]byte, 0, len(stmt))
	for pos := 0; pos < len(stmt); {
		switch c := stmt[pos]; {
		case c == '\'' || c == '"' || c == '`':
			end := closing(stmt, pos+1, c, c != '`')
			if end < 0 {
				end = len(stmt)
			}
			out = append(out, stmt[pos:end]...)
			pos = end
		case bytes.HasPrefix(stmt[pos:], []byte("/*!")) || bytes.HasPrefix(stmt[pos:], []byte("/*M!")):
			end := conditionalEnd(stmt, pos)
			body := bytes.TrimPrefix(bytes.TrimPrefix(stmt[pos:end], []byte("/*")), []byte("M"))
			forMaria := stmt[pos+2] == 'M'
			body = bytes.TrimSuffix(body[1:], []byte("*/"))
			digits := 0
			for digits < len(body) && digits < 6 && body[digits] >= '0' && body[digits] <= '9' {
				digits++
			}
			version, _ := strconv.Atoi(string(body[:digits]))
			if version <= actsAs && (forMaria || version < mysqlFrom || version > mysqlTo) {
				out = append(append(append(out, ' '), Resolve(body[digits:])...), ' ')
			}
			pos = end
		default:
			if n := commentEnd(stmt[pos:]); n != 0 {
				if n < 0 {
					n = len(stmt) - pos
				}
				out = append(out, ' ')
				pos += n
				continue
			}
			out = append(out, c)
			pos++
		}
	}
	return bytes.TrimSpace(out)
}

// conditionalEnd returns where the conditional comment at pos ends; quotes inside it are passed over.
func conditionalEnd(stmt []byte, pos int) int {
	for i := pos + 3; i < len(stmt); {
		switch c := stmt[i]; {
		case c == '\'' || c == '"' || c == '`':
			end := closing(stmt, i+1, c, c != '`')
			if end < 0 {
				return len(stmt)
			}
			i = end
		case c == '*' && i+1 < len(stmt) && stmt[i+1] == '/':
			return i + 2
		case c == '/' && i+1 < len(stmt) && stmt[i+1] == '*':
			i = conditionalEnd(stmt, i)
		default:
			i++
		}
	}
	return len(stmt)
}
