package sqltext

// rowStatement reads a statement of PostgreSQL or SQLite that looks at rows or changes them.
func (p *parser) rowStatement() {
	switch {
	case p.startsQuery():
		p.query()
	case p.is("insert"), p.d == SQLite && p.is("replace"):
		p.standardInsert()
	case p.is("update"):
		p.standardUpdate()
	case p.is("delete"):
		p.standardDelete()
	default:
		p.fail("the statement %s is not taken over", p.peek())
	}
}

func (p *parser) standardInsert() {
	if p.d == SQLite && p.skip("replace") {
		p.out.put("INSERT OR REPLACE")
	} else {
		p.must("insert")
	}
	if p.d == SQLite && p.copy("or") {
		p.copyOne("replace", "ignore", "abort", "fail", "rollback")
	}
	p.must("into")
	p.copyTable()
	p.tableAlias()
	if p.isMark("(") && !p.bracketsQuery() {
		p.names()
	}
	if !p.copy("default", "values") {
		p.query()
	}
	if p.copy("on", "conflict") {
		if p.isMark("(") {
			p.keyColumns()
			if p.copy("where") {
				p.expression()
			}
		} else if p.copy("on", "constraint") {
			p.out.putTable(p.name())
		}
		p.must("do")
		if !p.copy("nothing") {
			p.must("update", "set")
			p.standardAssignments()
			if p.copy("where") {
				p.expression()
			}
		}
	}
	p.returning()
}

// standardAssignments reads columns with the values they get.
func (p *parser) standardAssignments() {
	p.list(func() {
		if p.isMark("(") {
			p.names()
		} else {
			p.copyName()
		}
		p.mustMark("=")
		p.expression()
	})
}

func (p *parser) standardUpdate() {
	p.must("update")
	if p.d == SQLite && p.copy("or") {
		p.copyOne("replace", "ignore", "abort", "fail", "rollback")
	}
	p.copyTable()
	p.tableAlias()
	p.must("set")
	p.standardAssignments()
	if p.copy("from") {
		p.tableList()
	}
	if p.copy("where") {
		p.expression()
	}
	p.returning()
}

func (p *parser) standardDelete() {
	p.must("delete", "from")
	p.copyTable()
	p.tableAlias()
	if p.d == Postgres && p.copy("using") {
		p.tableList()
	}
	if p.copy("where") {
		p.expression()
	}
	p.returning()
}

func (p *parser) returning() {
	if p.d == Postgres && p.copy("returning") {
		p.list(p.selected)
		p.into()
	}
}
