package sqltext

import "strings"

// AlterTable returns the table that an ALTER TABLE statement from outside is about, and its clauses; comments are resolved.
func AlterTable(stmt []byte) (table string, clauses []byte, err error) {
	h := head{src: stmt}
	h.word("ALTER")
	h.word("TABLE")
	table = h.qualified()
	return table, stmt[h.pos:], h.err
}

// CreateIndex returns the table that a CREATE INDEX statement from outside is about, and the clause of an ALTER TABLE
// statement that does the same.
func CreateIndex(stmt []byte) (table string, clause []byte, err error) {
	p := newParser(stmt, inTable)
	p.must("create")
	words := "ADD"
	for p.isOne("unique", "fulltext", "spatial") {
		words += " " + strings.ToUpper(p.next().text)
	}
	p.must("index")
	name := p.name()
	using := &text{}
	p.out = using
	p.keyOptions()
	p.out = &text{}
	p.must("on")
	table = p.anyDatabase()
	p.out = &text{}
	p.keyParts()
	p.keyOptions()
	if err := p.end(); err != nil {
		return "", nil, err
	}
	return table, []byte(words + " INDEX " + Quote(name) + " " + using.render(nil) + " " + p.out.render(nil)), nil
}
