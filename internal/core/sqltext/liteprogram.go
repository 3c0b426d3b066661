package sqltext

// liteProgram reads CREATE VIEW and CREATE TRIGGER of SQLite (SQLite documentation, "CREATE VIEW", "CREATE TRIGGER").
func (p *parser) liteProgram() (*Program, error) {
	p.must("create")
	g := &Program{Type: p.peek().word, text: p.out}
	switch {
	case p.copy("view"):
		p.scope = inQuery
		p.skip("if", "not", "exists")
		g.Name = p.copyTable()
		p.tables = nil
		if p.isMark("(") {
			p.names()
		}
		p.must("as")
		p.query()
	case p.copy("trigger"):
		p.liteTrigger(g)
	default:
		p.fail("%s is not understood here", p.peek())
	}
	return p.program(g)
}

func (p *parser) liteTrigger(g *Program) {
	p.skip("if", "not", "exists")
	g.Name = p.copyTable()
	p.tables = nil
	_ = p.copyOne("before", "after") || p.copy("instead", "of")
	if !p.copyOne("insert", "update", "delete") {
		p.fail("%s is not understood here", p.peek())
	}
	if p.copy("of") {
		p.list(func() { p.copyName() })
	}
	p.must("on")
	p.copyTable()
	p.copy("for", "each", "row")
	if p.rowNames = true; p.copy("when") {
		p.expression()
	}
	p.must("begin")
	for p.err == nil && !p.is("end") {
		p.rowStatement()
		p.mustMark(";")
	}
	p.must("end")
}
