package sqltext

import "strings"

// plBlock reads a block of PL/pgSQL (PostgreSQL manual, chapter 43, "PL/pgSQL — SQL Procedural Language").
func (p *parser) plBlock() {
	p.label()
	if p.copy("declare") {
		for p.err == nil && !p.is("begin") {
			p.plDeclaration()
			p.mustMark(";")
		}
	}
	p.must("begin")
	p.plBody("end", "exception")
	if p.copy("exception") {
		for p.copy("when") {
			for p.err == nil {
				if p.copy("sqlstate") {
					p.copyString()
				} else {
					p.out.put(p.plainWord())
				}
				if !p.copy("or") {
					break
				}
			}
			p.must("then")
			p.plBody("when", "end")
		}
	}
	p.must("end")
	p.endLabel()
}

// label reads <<name>>, where one stands.
func (p *parser) label() {
	if p.skipMark("<<") {
		p.out.put("<<" + p.d.Quote(p.name()) + ">>")
		if !p.skipMark(">>") {
			p.fail("%s stands where >> should be", p.peek())
		}
	}
}

func (p *parser) endLabel() {
	if t := p.peek(); t.kind == tokenName || t.kind == tokenWord {
		p.copyName()
	}
}

func (p *parser) plDeclaration() {
	p.declare(p.copyName())
	p.copy("constant")
	if p.copy("cursor") {
		p.must("for")
		p.query()
		return
	}
	p.variableType()
	p.copy("not", "null")
	if p.copy("default") || p.copyMark(":=") || p.copyMark("=") {
		p.expression()
	}
}

// plBody reads statements until one of the words.
func (p *parser) plBody(until ...string) {
	for p.err == nil && !p.isOne(until...) {
		p.nested(p.plStatement)
		p.mustMark(";")
	}
}

// plStatement reads one statement of PL/pgSQL.
func (p *parser) plStatement() {
	p.label()
	switch word := p.peek().word; {
	case p.isOne("begin", "declare"):
		p.plBlock()
	case p.copy("if"):
		p.plIf()
	case p.copy("case"):
		p.plCase()
	case p.isOne("loop", "while", "for", "foreach"):
		p.plLoop()
	case p.copyOne("exit", "continue"):
		if !p.is("when") && !p.isMark(";") {
			p.copyName()
		}
		if p.copy("when") {
			p.expression()
		}
	case p.copy("return"):
		p.plReturn()
	case p.copy("raise"):
		p.plRaise()
	case p.copy("perform"):
		p.plPerform()
	case p.copy("null"):
	case p.copy("get"):
		p.copyOne("current", "stacked")
		p.must("diagnostics")
		p.list(func() {
			p.variable()
			if !p.copyMark("=") && !p.copyMark(":=") {
				p.fail("%s stands where = should be", p.peek())
			}
			p.out.put(p.plainWord())
		})
	case word == "execute":
		p.fail("it puts statements together when it runs (EXECUTE), so that nobody can say what they do")
	case p.isOne("open", "close"):
		p.must(word)
		p.variable()
	case p.copy("fetch"):
		p.copyOne("next", "first", "last", "prior")
		_ = p.copy("from") || p.copy("in")
		p.variable()
		p.into()
	case p.isOne("insert", "update", "delete") || p.startsQuery():
		p.rowStatement()
	default:
		p.variable()
		if !p.copyMark(":=") && !p.copyMark("=") {
			p.fail("%s stands where := should be", p.peek())
		}
		p.plValue()
	}
}

// plValue reads an expression that may end in the rest of a query: x := count(*) FROM lessons.
func (p *parser) plValue() {
	p.expression()
	if p.copy("from") {
		p.tableList()
		if p.copy("where") {
			p.expression()
		}
		p.orderBy()
		p.limit()
	}
}

// plPerform reads the rest of a query behind PERFORM, which stands in the place of SELECT.
func (p *parser) plPerform() {
	p.list(p.selected)
	if p.copy("from") {
		p.tableList()
	}
	if p.copy("where") {
		p.expression()
	}
	p.orderBy()
	p.limit()
}

func (p *parser) plIf() {
	p.expression()
	p.must("then")
	p.plBody("elsif", "elseif", "else", "end")
	for p.copyOne("elsif", "elseif") {
		p.expression()
		p.must("then")
		p.plBody("elsif", "elseif", "else", "end")
	}
	if p.copy("else") {
		p.plBody("end")
	}
	p.must("end", "if")
}

func (p *parser) plCase() {
	if !p.is("when") {
		p.expression()
	}
	for p.copy("when") {
		p.list(p.expression)
		p.must("then")
		p.plBody("when", "else", "end")
	}
	if p.copy("else") {
		p.plBody("end")
	}
	p.must("end", "case")
}

func (p *parser) plLoop() {
	switch {
	case p.copy("while"):
		p.expression()
	case p.copy("foreach"):
		p.variable()
		p.must("in", "array")
		p.expression()
	case p.copy("for"):
		n := p.copyName()
		p.declare(n)
		p.must("in")
		p.copy("reverse")
		if p.startsQuery() {
			p.query()
			break
		}
		if p.is("execute") {
			p.plStatement()
		}
		p.expression()
		p.mustMark("..")
		p.expression()
		if p.copy("by") {
			p.expression()
		}
	}
	p.must("loop")
	p.plBody("end")
	p.must("end", "loop")
	p.endLabel()
}

func (p *parser) plReturn() {
	switch {
	case p.isMark(";"):
	case p.copy("query"):
		if p.is("execute") {
			p.plStatement()
		}
		p.query()
	default:
		if p.copy("next"); p.isMark(";") {
			return
		}
		if t := p.peek(); p.rowNames && (t.word == "new" || t.word == "old") && p.peekAt(1).text == ";" {
			p.next()
			p.out.put(strings.ToUpper(t.word))
			return
		}
		p.plValue()
	}
}

func (p *parser) plRaise() {
	p.copyOne("debug", "log", "info", "notice", "warning", "exception")
	switch {
	case p.peek().kind == tokenString:
		p.copyString()
		for p.copyMark(",") {
			p.expression()
		}
	case p.copy("sqlstate"):
		p.copyString()
	case !p.is("using") && !p.isMark(";"):
		p.out.put(p.plainWord())
	}
	if p.copy("using") {
		p.list(func() {
			p.out.put(p.plainWord())
			if !p.copyMark("=") && !p.copyMark(":=") {
				p.fail("%s stands where = should be", p.peek())
			}
			p.expression()
		})
	}
}
