package sqltext

import (
	"fmt"
	"slices"
	"strings"
)

// text is a statement that is written again. Names of tables stand apart, so that they can be given others.
type text struct {
	dialect *Dialect // nil for MySQL
	parts   []part
	last    byte // what was written last
}

type part struct {
	text   string
	table  bool  // text is the name of a table
	string bool  // which stands in a string
	body   *text // a string that is a program
}

// put writes one token, with a space before it where one belongs.
func (t *text) put(s string) {
	if s == "" {
		return
	}
	if t.last != 0 && t.last != '(' && s[0] != ')' && s[0] != ',' && s[0] != ';' {
		t.join(" ")
	}
	t.join(s)
}

// join writes without a space.
func (t *text) join(s string) {
	if n := len(t.parts); n > 0 && !t.parts[n-1].table && t.parts[n-1].body == nil {
		t.parts[n-1].text += s
	} else {
		t.parts = append(t.parts, part{text: s})
	}
	t.last = s[len(s)-1]
}

func (t *text) putTable(name string) {
	if t.last != 0 && t.last != '(' {
		t.join(" ")
	}
	t.parts = append(t.parts, part{text: name, table: true})
	t.last = '`'
}

// names reports whether it names tables, or what goes with them.
func (t *text) names() bool {
	return slices.ContainsFunc(t.parts, func(p part) bool { return p.table })
}

// putTableString writes a string with the name of a table.
func (t *text) putTableString(name string) {
	t.parts = append(t.parts, part{text: name, table: true, string: true})
	t.last = '\''
}

// putBody writes a string that is a program.
func (t *text) putBody(body *text) {
	t.join(" ")
	t.parts = append(t.parts, part{body: body})
	t.last = '$'
}

// render writes the statement with names of tables passed through rename, unless that is nil.
func (t *text) render(rename func(string) string) string {
	var out strings.Builder
	d := t.dialect
	if d == nil {
		d = MySQL
	}
	for _, p := range t.parts {
		name := p.text
		if p.table && rename != nil {
			name = rename(name)
		}
		switch {
		case p.body != nil:
			inner := p.body.render(rename)
			tag := "$body$"
			for n := 1; strings.Contains(inner, tag); n++ {
				tag = fmt.Sprintf("$body%d$", n)
			}
			out.WriteString(tag + "\n" + inner + "\n" + tag)
		case !p.table:
			out.WriteString(p.text)
		case p.string:
			out.WriteString(d.String(d.Quote(name)))
		default:
			out.WriteString(d.Quote(name))
		}
	}
	return out.String()
}

// scope is what a definition may name.
type scope byte

const (
	inTable   scope = iota // columns of one table, and functions that depend on nothing else
	inQuery                // tables of the database
	inProgram              // and variables, and statements that change rows
)

// parser reads a definition token by token, and writes what it has understood. It stops at the first thing that it does
// not understand: what it has not read to the end is not used.
//
// Identifiers are written in backticks and without a database, so no word of a definition can be read as a keyword again,
// and nothing outside the database can be named.
type parser struct {
	d        *Dialect
	tokens   []token
	at       int
	depth    int
	err      error
	out      *text
	scope    scope
	database string            // whose name may stand before a table's; "" for none
	routines map[string]bool   // functions of the database that may be called, in small letters
	declared map[string]bool   // variables, in small letters
	rowNames bool              // NEW and OLD are rows
	engines  map[string]bool   // routines that extensions bring, whose names stay as they are
	types    map[string]string // of the database itself, with what values are
	counters map[string]bool   // sequences that stand alone
	tables   []string          // that were named
}

// maxNesting bounds how deep brackets and blocks may stand in one another.
const maxNesting = 200

func newParser(stmt []byte, s scope) *parser { return newParserOf(MySQL, stmt, s) }

func newParserOf(d *Dialect, stmt []byte, s scope) *parser {
	p := &parser{d: d, scope: s, out: &text{dialect: d}, declared: map[string]bool{}, routines: map[string]bool{}, types: map[string]string{},
		counters: map[string]bool{}, engines: map[string]bool{}}
	if d == Postgres {
		p.database = "public" // the schema that tables of a site are in
	}
	p.tokens, p.err = d.tokenize(stmt)
	return p
}

// fresh begins another text to write to.
func (p *parser) fresh() *text {
	p.out = &text{dialect: p.d}
	return p.out
}

func (p *parser) fail(format string, args ...any) {
	if p.err == nil {
		p.err = &SyntaxError{Reason: fmt.Sprintf(format, args...), Token: p.at}
	}
}

func (p *parser) peekAt(n int) token {
	if p.err != nil || p.at+n >= len(p.tokens) {
		return token{}
	}
	return p.tokens[p.at+n]
}

func (p *parser) peek() token { return p.peekAt(0) }

func (p *parser) next() token {
	t := p.peek()
	if t.kind != tokenEnd {
		p.at++
	}
	return t
}

// end fails unless all is read.
func (p *parser) end() error {
	if t := p.peek(); p.err == nil && t.kind != tokenEnd {
		p.fail("%s is not understood here", t)
	}
	return p.err
}

// is reports whether the words come next.
func (p *parser) is(words ...string) bool {
	for i, w := range words {
		if t := p.peekAt(i); t.kind != tokenWord || t.word != w {
			return false
		}
	}
	return p.err == nil
}

// isOne reports whether one of the words comes next.
func (p *parser) isOne(words ...string) bool {
	t := p.peek()
	return t.kind == tokenWord && slices.Contains(words, t.word)
}

// skip reads the words if they come next.
func (p *parser) skip(words ...string) bool {
	if !p.is(words...) {
		return false
	}
	p.at += len(words)
	return true
}

// copy reads the words if they come next, and writes them.
func (p *parser) copy(words ...string) bool {
	if !p.skip(words...) {
		return false
	}
	for _, w := range words {
		p.out.put(strings.ToUpper(w))
	}
	return true
}

// copyOne reads and writes one of the words, if one comes next.
func (p *parser) copyOne(words ...string) bool {
	return p.isOne(words...) && p.copy(p.peek().word)
}

// must reads and writes the words.
func (p *parser) must(words ...string) {
	if !p.copy(words...) {
		p.fail("%s stands where %s should be", p.peek(), strings.ToUpper(strings.Join(words, " ")))
	}
}

func (p *parser) isMark(m string) bool {
	t := p.peek()
	return t.kind == tokenMark && t.text == m
}

func (p *parser) skipMark(m string) bool {
	if p.isMark(m) {
		p.at++
		return true
	}
	return false
}

func (p *parser) copyMark(m string) bool {
	if p.skipMark(m) {
		p.out.put(m)
		return true
	}
	return false
}

func (p *parser) mustMark(m string) {
	if !p.copyMark(m) {
		p.fail("%s stands where %q should be", p.peek(), m)
	}
}

// openTight writes a bracket without a space before it, as behind the name of a function.
func (p *parser) openTight() {
	if !p.skipMark("(") {
		p.fail("%s stands where a bracket should be", p.peek())
		return
	}
	p.out.join("(")
}

// name reads an identifier.
func (p *parser) name() string {
	t := p.next()
	if t.kind != tokenWord && t.kind != tokenName || t.text == "" {
		p.fail("%s stands where a name should be", t)
		return ""
	}
	return p.folded(t)
}

// folded returns what a name means: PostgreSQL knows those without quotes in small letters.
func (p *parser) folded(t token) string {
	if p.d == Postgres && t.kind == tokenWord {
		return t.word
	}
	return t.text
}

// copyName reads an identifier and writes it.
func (p *parser) copyName() string {
	n := p.name()
	if p.err == nil {
		p.out.put(p.d.Quote(n))
	}
	return n
}

// qualified reads the name of a table, with its database only where it is the one at hand.
func (p *parser) qualified() string {
	n := p.name()
	if p.skipMark(".") {
		p.ownDatabase(n)
		n = p.name()
	}
	return n
}

func (p *parser) ownDatabase(name string) {
	if p.err == nil && (p.database == "" || !strings.EqualFold(name, p.database)) {
		p.fail("it names the database %q, and only its own tables are taken over", name)
	}
}

// copyTable reads the name of a table and writes it.
func (p *parser) copyTable() string {
	n := p.qualified()
	if p.d == Postgres && strings.HasPrefix(n, "pg_") {
		p.fail("%s is a table of the server's own", n)
	}
	if p.err == nil {
		p.out.putTable(n)
		p.tables = append(p.tables, n)
	}
	return n
}

// list calls item for each of a list with commas, which are written.
func (p *parser) list(item func()) {
	for p.err == nil {
		item()
		if !p.copyMark(",") {
			return
		}
	}
}

// names reads and writes a list of names in brackets.
func (p *parser) names() (out []string) {
	p.mustMark("(")
	p.list(func() { out = append(out, p.copyName()) })
	p.mustMark(")")
	return out
}

// string reads a string and writes it.
func (p *parser) copyString() string {
	t := p.next()
	if t.kind != tokenString {
		p.fail("%s stands where a string should be", t)
		return ""
	}
	p.out.put(p.d.String(t.text))
	return t.text
}

// copyNumber reads a whole number and writes it.
func (p *parser) copyNumber() {
	t := p.next()
	if t.kind != tokenNumber || strings.Trim(t.text, "0123456789") != "" {
		p.fail("%s stands where a number should be", t)
		return
	}
	p.out.put(t.text)
}

// plainWord reads a word that is made of letters, digits and underscores only, or a string that is, and returns it.
func (p *parser) plainWord() string {
	t := p.next()
	if t.kind != tokenWord && t.kind != tokenString && t.kind != tokenName || t.text == "" || !plainName(t.text) {
		p.fail("%s is not a plain name", t)
		return ""
	}
	return t.text
}

func plainName(s string) bool {
	for i := range len(s) {
		if !identifierByte(s[i]) || s[i] >= 0x80 {
			return false
		}
	}
	return true
}

// nested runs what may hold itself again.
func (p *parser) nested(do func()) {
	if p.depth++; p.depth > maxNesting {
		p.fail("it is nested more than %d deep", maxNesting)
	}
	if p.err == nil {
		do()
	}
	p.depth--
}
