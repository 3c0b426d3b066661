package sqltext

import "strings"

// startsQuery reports whether a query comes next, where queries have a place.
func (p *parser) startsQuery() bool {
	return p.scope != inTable && (p.isOne("select", "with") || p.d != MySQL && p.is("values") || p.isMark("(") && p.bracketsQuery())
}

// bracketsQuery reports whether a query stands behind the opening brackets that come next.
func (p *parser) bracketsQuery() bool {
	n := 0
	for p.peekAt(n).kind == tokenMark && p.peekAt(n).text == "(" {
		n++
	}
	t := p.peekAt(n)
	return t.kind == tokenWord && (t.word == "select" || t.word == "with" || t.word == "values" && p.d != MySQL)
}

// query reads a SELECT, or several that are put together, and writes it.
func (p *parser) query() {
	p.nested(func() {
		if p.scope == inTable {
			p.fail("a query has no place in the definition of a table")
		}
		if p.copy("with") {
			p.copy("recursive")
			p.list(func() {
				p.out.putTable(p.name())
				if p.isMark("(") {
					p.names()
				}
				p.must("as")
				if p.d != MySQL {
					p.copy("not")
					p.copy("materialized")
				}
				p.mustMark("(")
				p.query()
				p.mustMark(")")
			})
		}
		for p.err == nil {
			if p.copyMark("(") {
				p.query()
				p.mustMark(")")
			} else {
				p.selection()
			}
			if !p.copyOne("union", "except", "intersect") {
				break
			}
			p.copyOne("all", "distinct")
		}
		p.orderBy()
		p.limit()
	})
}

func (p *parser) selection() {
	if p.d != MySQL && p.copy("values") {
		p.list(p.bracketed)
		return
	}
	p.must("select")
	switch p.d {
	case MySQL:
		for p.copyOne("all", "distinct", "distinctrow", "straight_join", "sql_small_result", "sql_big_result", "sql_no_cache") {
		}
	default:
		if p.copyOne("all", "distinct") && p.d == Postgres && p.copy("on") {
			p.bracketed()
		}
	}
	p.list(p.selected)
	p.into()
	if p.copy("from") {
		if !p.copy("dual") {
			p.tableList()
		}
	}
	if p.copy("where") {
		p.expression()
	}
	if p.copy("group", "by") {
		p.list(func() { p.expression(); p.copyOne("asc", "desc") })
		p.copy("with", "rollup")
	}
	if p.copy("having") {
		p.expression()
	}
	p.orderBy()
	p.limit()
	p.into()
	if p.d == MySQL && p.scope == inProgram {
		_ = p.copy("for", "update") || p.copy("lock", "in", "share", "mode")
	}
	if p.d == Postgres && p.scope == inProgram && (p.copy("for", "update") || p.copy("for", "share")) {
		_ = p.copy("nowait") || p.copy("skip", "locked")
	}
}

// into reads the variables that a program reads values into; files are none.
func (p *parser) into() {
	if p.scope == inProgram && p.d != SQLite && p.copy("into") {
		p.copy("strict")
		p.list(p.variable)
	}
}

// variable reads a variable that a program may change: its own, one of the session (@name), or a column of the new row.
func (p *parser) variable() {
	switch {
	case p.d == MySQL && p.skipMark("@"):
		p.out.put("@")
		p.out.join(Quote(p.name()))
	case p.rowNames && p.is("new") && p.peekAt(1).text == ".":
		p.identifier()
	default:
		n := p.name()
		if !p.declared[strings.ToLower(n)] && !(p.rowNames && p.d == Postgres && strings.EqualFold(n, "new")) {
			p.fail("%s is not a variable of the program", n)
		}
		p.out.put(p.d.Quote(n))
		if p.d == Postgres && p.skipMark(".") {
			p.out.join("." + p.d.Quote(p.name()))
		}
		for p.d == Postgres && p.isMark("[") {
			p.subscript()
		}
	}
}

func (p *parser) orderBy() {
	if p.copy("order", "by") {
		p.list(func() {
			p.expression()
			p.copyOne("asc", "desc")
			_ = p.d != MySQL && (p.copy("nulls", "first") || p.copy("nulls", "last"))
		})
	}
}

func (p *parser) limit() {
	if p.d == Postgres && p.copy("fetch") {
		p.copyOne("first", "next")
		if !p.isOne("row", "rows") {
			p.operand()
		}
		p.copyOne("row", "rows")
		p.must("only")
		return
	}
	if p.d == Postgres && p.copy("offset") {
		p.operand()
		p.copyOne("row", "rows")
	}
	if !p.copy("limit") {
		return
	}
	if !p.copy("all") {
		p.operand()
	}
	if p.copyMark(",") || p.copy("offset") {
		p.operand()
	}
}

// selected reads one column of a query.
func (p *parser) selected() {
	switch {
	case p.copyMark("*"):
		return
	case p.peekAt(1).text == "." && p.peekAt(2).kind == tokenMark && p.peekAt(2).text == "*":
		if t := p.peek(); p.declared[t.word] || p.rowNames && (t.word == "new" || t.word == "old") {
			p.copyName()
		} else {
			p.out.putTable(p.name())
		}
		p.skipMark(".")
		p.skipMark("*")
		p.out.join(".*")
		return
	}
	p.expression()
	p.alias()
}

// afterColumn are the words that may follow a column or table and are no alias.
var afterColumn = words(`from where group having order limit union except intersect into on using join inner cross left right natural
	straight_join for lock
	procedure window set as with when then else end do use force ignore partition values`)

// afterPlain are those besides them that dialects other than MySQL have.
var afterPlain = words(`offset fetch full lateral loop returning tablesample nulls filter over isnull notnull collate similar ilike indexed not`)

// isAlias reports whether a token is another name for what stands before it.
func (p *parser) isAlias(t token) bool {
	return t.kind == tokenName || t.kind == tokenWord && !afterColumn[t.word] && (p.d == MySQL || !afterPlain[t.word])
}

// alias reads another name that is given to a column.
func (p *parser) alias() {
	t := p.peek()
	if p.skip("as") || p.isAlias(t) || t.kind == tokenString && p.d == MySQL {
		t = p.next()
		if t.kind != tokenName && t.kind != tokenString && t.kind != tokenWord || t.text == "" {
			p.fail("%s stands where a name should be", t)
			return
		}
		p.out.put("AS")
		p.out.put(p.d.Quote(p.folded(t)))
	}
}

func (p *parser) tableList() { p.list(p.joined) }

// joined reads tables that are joined.
func (p *parser) joined() {
	p.nested(func() {
		p.tableFactor()
		for p.err == nil && p.join() {
			p.tableFactor()
			if p.copy("on") {
				p.expression()
			} else if p.copy("using") {
				p.names()
			}
		}
	})
}

func (p *parser) join() bool {
	switch {
	case p.copy("join"), p.copy("inner", "join"), p.copy("cross", "join"), p.copy("straight_join"), p.copy("left", "join"), p.copy("left",
		"outer", "join"),
		p.copy("right", "join"), p.copy("right", "outer", "join"), p.copy("natural", "join"), p.copy("natural", "left",
			"join"), p.copy("natural", "right", "join"):
		return true
	case p.d != MySQL && (p.copy("full", "join") || p.copy("full", "outer", "join") || p.copy("natural", "full", "join")):
		return true
	}
	return false
}

func (p *parser) tableFactor() {
	if p.d == Postgres {
		p.copy("lateral")
		p.skip("only")
	}
	if t := p.peekAt(1); p.d != MySQL && p.peek().kind != tokenMark && t.kind == tokenMark && t.text == "(" {
		p.wordOperand(p.peek())
		if p.copy("with") {
			p.must("ordinality")
		}
		p.tableAlias()
		return
	}
	if p.copyMark("(") {
		if p.isOne("select", "with") || p.d != MySQL && p.is("values") {
			p.query()
			p.mustMark(")")
			p.tableAlias()
			return
		}
		p.tableList()
		p.mustMark(")")
		return
	}
	p.copyTable()
	p.tableAlias()
	for p.isOne("use", "force", "ignore") {
		p.copyOne("use", "force", "ignore")
		if !p.copyOne("index", "key") {
			p.fail("%s is not understood here", p.peek())
		}
		p.names()
	}
}

// tableAlias reads another name of a table. It goes with tables of that name.
func (p *parser) tableAlias() {
	t := p.peek()
	if p.skip("as") || p.isAlias(t) {
		p.out.putTable(p.name())
		if p.d != MySQL && p.isMark("(") {
			p.mustMark("(")
			p.list(func() {
				p.copyName()
				if t := p.peek(); p.d == Postgres && (t.kind == tokenWord || t.kind == tokenName) {
					p.pgType()
				}
			})
			p.mustMark(")")
		}
	}
}
