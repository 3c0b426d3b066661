package sqltext

import (
	"bytes"
	"cmp"
	"fmt"
)

// Insert is an INSERT statement with its rows not yet taken apart.
type Insert struct {
	Table   string
	Columns []string // empty when the statement does not name them
	Rows    []byte   // the text after VALUES: (…),(…)
	Texts   bool     // strings are texts, also where they look as bytes do in releases
	pos     int
	err     error
	dialect *Dialect
	buf     []byte // literals of the row that were brought into the common form
	moved   []bool // which of them those are
}

// ParseInsert is that of MySQL.
func ParseInsert(stmt []byte) (*Insert, error) { return MySQL.ParseInsert(stmt) }

// ParseInsert reads the head of INSERT INTO table [(columns)] VALUES … . The rows are read by Next.
// A statement of another sort gives ErrSyntax.
func (d *Dialect) ParseInsert(stmt []byte) (*Insert, error) {
	p := head{src: stmt, quote: d.quote}
	p.word("INSERT")
	p.optional("IGNORE")
	p.word("INTO")
	ins := &Insert{Table: p.identifier(), dialect: d}
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
	p.word("VALUES")
	if p.err != nil {
		return nil, p.err
	}
	p.space()
	ins.Rows = stmt[p.pos:]
	return ins, nil
}

// Next reads the next row into *row, reusing it, and reports whether there was one. The literals
// are in the form of MySQL, and point into the statement or are valid until the next row. After the last row, Err says
// whether all of it was understood.
func (ins *Insert) Next(row *[]Literal) bool {
	*row, ins.buf, ins.moved = (*row)[:0], ins.buf[:0], ins.moved[:0]
	src, pos := ins.Rows, skipSpace(ins.Rows, ins.pos)
	if pos < len(src) && src[pos] == ',' && ins.pos > 0 {
		pos = skipSpace(src, pos+1)
	}
	if ins.err != nil || pos >= len(src) || src[pos] == ';' {
		return false
	}
	if src[pos] != '(' {
		return ins.fail(pos, "a row should begin with (")
	}
	pos++
	for {
		pos = skipSpace(src, pos)
		start := pos
		pos = literalEnd(src, pos, ins.dialect.escapes)
		if pos < 0 {
			return ins.fail(start, "a string is not closed")
		}
		end := pos
		for end > start && src[end-1] == ' ' {
			end--
		}
		if end == start {
			return ins.fail(start, "a value is missing")
		}
		lit := Literal(src[start:end])
		if ins.dialect != MySQL {
			at := len(ins.buf)
			var err error
			if lit, err = ins.dialect.normal(lit, &ins.buf, ins.Texts); err != nil {
				return ins.fail(start, err.Error())
			}
			ins.moved = append(ins.moved, len(ins.buf) > at || string(lit) == "'t'" || string(lit) == "'f'")
		}
		*row = append(*row, lit)
		pos = skipSpace(src, pos)
		if pos >= len(src) {
			return ins.fail(start, "a row is not closed")
		}
		pos++
		if src[pos-1] == ')' {
			ins.pos = pos
			return true
		}
		if src[pos-1] != ',' {
			return ins.fail(pos, "values should be separated by commas")
		}
	}
}

// InPlace reports whether a literal of the row lies in the statement as it is, by its index.
func (ins *Insert) InPlace(i int) bool { return i >= len(ins.moved) || !ins.moved[i] }

// Err returns what was wrong with the rows, if anything.
func (ins *Insert) Err() error { return ins.err }

func (ins *Insert) fail(pos int, why string) bool {
	ins.err = fmt.Errorf("%w: in rows of %s at byte %d: %s", ErrSyntax, ins.Table, pos, why)
	return false
}

// literalEnd returns the index after the literal that starts at pos, or -1 when a string is not closed.
func literalEnd(src []byte, pos int, escapes bool) int {
	for pos < len(src) {
		switch src[pos] {
		case '\'':
			end := closing(src, pos+1, '\'', escapes || pos > 0 && src[pos-1] == 'E')
			if end < 0 {
				return -1
			}
			pos = end
		case ',', ')':
			return pos
		default:
			pos++
		}
	}
	return pos
}

func skipSpace(src []byte, pos int) int {
	for pos < len(src) && (src[pos] == ' ' || src[pos] == '\n' || src[pos] == '\r' || src[pos] == '\t') {
		pos++
	}
	return pos
}

// head reads the fixed words at the start of a statement.
type head struct {
	src   []byte
	pos   int
	err   error
	quote byte // around identifiers; 0 for backticks
}

func (p *head) space() { p.pos = skipSpace(p.src, p.pos) }

func (p *head) peek() byte {
	p.space()
	if p.pos >= len(p.src) {
		return 0
	}
	return p.src[p.pos]
}

func (p *head) optional(word string) bool {
	p.space()
	end := p.pos + len(word)
	if p.err == nil && end <= len(p.src) && bytes.EqualFold(p.src[p.pos:end], []byte(word)) {
		p.pos = end
		return true
	}
	return false
}

func (p *head) word(word string) {
	if p.err == nil && !p.optional(word) {
		p.fail(word)
	}
}

func (p *head) byte(b byte) {
	if p.err == nil && p.peek() != b {
		p.fail(string(b))
		return
	}
	p.pos++
}

func (p *head) fail(want string) {
	if p.err == nil {
		p.err = fmt.Errorf("%w: expected %s at byte %d of %q", ErrSyntax, want, p.pos, p.src[:min(60, len(p.src))])
	}
}

func (p *head) identifier() string {
	if p.err != nil {
		return ""
	}
	quote := cmp.Or(p.quote, '`')
	if p.peek() == quote {
		end := closing(p.src, p.pos+1, quote, false)
		if end < 0 {
			p.fail("a closed identifier")
			return ""
		}
		name := bytes.ReplaceAll(p.src[p.pos+1:end-1], []byte{quote, quote}, []byte{quote})
		p.pos = end
		return string(name)
	}
	start := p.pos
	for p.pos < len(p.src) && identifierByte(p.src[p.pos]) {
		p.pos++
	}
	if start == p.pos {
		p.fail("a name")
	}
	return string(p.src[start:p.pos])
}

func identifierByte(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '_' || c == '$' || c >= 0x80
}
