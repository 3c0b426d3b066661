package sqltext

import (
	"fmt"
	"slices"
	"strings"
)

// Program is what in a database is neither a table nor rows: a view, a trigger, a function or a procedure; and in PostgreSQL a
// sequence that stands alone, a type, a domain, an extension. It belongs to whoever makes it: who defined it before, and with whose rights
// it ran, is not part of it.
type Program struct {
	Type  string // "view", "materialized view", "trigger", "function", "procedure", "sequence", "type", "domain", "extension"
	Name  string
	Uses  []string // tables and views that it names
	text  *text
	base  string // what values of a type or domain are
	reads bool   // a function that is a query, and changes nothing
	next  int64  // the next number of a sequence, and how far it is to the one after that; 0 and 0 for others
	step  int64
}

// First reports whether tables may need it, so that it is made before them. Such programs run nothing by themselves.
func (g *Program) First() bool {
	switch g.Type {
	case "sequence", "type", "domain", "extension":
		return true
	}
	return false
}

// Passive reports whether the program does nothing by itself and changes no rows, so that it is taken over from anybody: what tables need,
// and functions that are queries.
func (g *Program) Passive() bool { return g.First() || g.reads }

// know lets what a parser reads name what was made before.
func (p *parser) know(made []*Program) {
	for _, g := range made {
		switch g.Type {
		case "function", "procedure":
			p.routines[strings.ToLower(g.Name)] = true
		case "type", "domain":
			p.types[g.Name] = g.base
		case "sequence":
			p.counters[g.Name] = true
		case "extension":
			e := pgExtensions[g.Name]
			for _, t := range e.types {
				p.types[t] = t
			}
			for _, f := range e.functions {
				p.routines[f], p.engines[f] = true, true
			}
		}
	}
}

// Text returns the statement that makes it, with the names of tables, views, triggers and routines passed through rename unless that
// is nil.
func (g *Program) Text(rename func(string) string) string {
	if g.step != 0 {
		return fmt.Sprintf("%s START WITH %d", g.text.render(rename), g.next)
	}
	return g.text.render(rename)
}

// SetNumber says what number a sequence has, and whether it was given already.
func (g *Program) SetNumber(n int64, given bool) {
	if g.next = n; given {
		g.next += g.step
	}
}

// ParseProgram takes a CREATE VIEW, TRIGGER, FUNCTION or PROCEDURE statement apart, in MySQL comments resolved. database is the
// name that may stand before those of tables where the dialect has no schema for them, and made are the programs that there are. What would
// reach out of the database, or is not understood to its last token, is ErrSyntax with the reason.
func (d *Dialect) ParseProgram(stmt []byte, database string, made []*Program) (*Program, error) {
	p := newParserOf(d, stmt, inProgram)
	p.know(made)
	if database != "" {
		p.database = database
	}
	switch d {
	case Postgres:
		return p.pgProgram()
	case SQLite:
		return p.liteProgram()
	}
	p.must("create")
	p.skip("or", "replace")
	algorithm := p.attributes()
	g := &Program{text: p.out}
	switch {
	case p.is("view"):
		g.Type, p.scope = "view", inQuery
		if algorithm != "" {
			p.out.put("ALGORITHM=" + algorithm)
		}
		p.view(g)
	case p.is("trigger"):
		g.Type = "trigger"
		p.trigger(g)
	case p.isOne("function", "procedure"):
		g.Type = p.peek().word
		p.routine(g)
	default:
		p.fail("%s is not understood here", p.peek())
	}
	return p.program(g)
}

// program returns a program that was read to its last token, with the tables that it names.
func (p *parser) program(g *Program) (*Program, error) {
	if err := p.end(); err != nil {
		return nil, err
	}
	g.Uses = slices.Compact(slices.Sorted(slices.Values(p.tables)))
	return g, nil
}

// attributes passes over what says who defined a program and with whose rights it runs.
func (p *parser) attributes() (algorithm string) {
	for p.err == nil {
		switch {
		case p.skip("algorithm"):
			p.skipMark("=")
			if a := p.next(); a.word == "merge" || a.word == "temptable" {
				algorithm = strings.ToUpper(a.word)
			}
		case p.skip("definer"):
			p.skipMark("=")
			if !p.skip("current_user") && !p.skip("current_role") {
				p.next()
				if p.skipMark("@") {
					p.next()
				}
			} else if p.skipMark("(") {
				p.skipMark(")")
			}
		case p.skip("sql", "security"):
			p.next()
		default:
			return algorithm
		}
	}
	return ""
}

func (p *parser) view(g *Program) {
	p.must("view")
	g.Name = p.copyTable()
	p.tables = nil
	if p.isMark("(") {
		p.names()
	}
	p.must("as")
	p.query()
	if p.copy("with") {
		p.copyOne("cascaded", "local")
		p.must("check", "option")
	}
}

func (p *parser) trigger(g *Program) {
	p.must("trigger")
	g.Name = p.copyTable()
	if !p.copyOne("before", "after") || !p.copyOne("insert", "update", "delete") {
		p.fail("%s is not understood here", p.peek())
	}
	p.must("on")
	p.tables = nil
	p.copyTable()
	p.must("for", "each", "row")
	if p.copyOne("follows", "precedes") {
		p.copyTable()
	}
	p.rowNames = true
	p.statement()
}

func (p *parser) routine(g *Program) {
	p.must(g.Type)
	g.Name = p.qualified()
	p.out.putTable(g.Name)
	p.mustMark("(")
	if !p.isMark(")") {
		p.list(func() {
			if g.Type == "procedure" {
				p.copyOne("in", "out", "inout")
			}
			p.declare(p.copyName())
			p.variableType()
		})
	}
	p.mustMark(")")
	if g.Type == "function" {
		p.must("returns")
		p.variableType()
	}
	p.characteristics()
	p.statement()
}

func (p *parser) declare(name string) { p.declared[strings.ToLower(name)] = true }

// variableType reads the type of a variable.
func (p *parser) variableType() {
	if p.d == Postgres {
		p.pgVariableType()
		return
	}
	p.dataType()
	for p.err == nil {
		switch {
		case p.copy("character", "set"), p.copy("charset"), p.copy("collate"):
			p.out.put(p.plainWord())
		default:
			return
		}
	}
}

func (p *parser) characteristics() {
	for p.err == nil {
		switch {
		case p.copy("deterministic"), p.copy("not", "deterministic"), p.copy("contains", "sql"), p.copy("no", "sql"), p.copy("reads", "sql",
			"data"),
			p.copy("modifies", "sql", "data"), p.skip("language", "sql"):
		case p.copy("comment"):
			p.copyString()
		case p.skip("sql", "security"):
			p.next()
		default:
			return
		}
	}
}

// statement reads one statement of a program.
func (p *parser) statement() {
	p.nested(func() {
		label := ""
		if t := p.peek(); (t.kind == tokenWord || t.kind == tokenName) && p.peekAt(1).text == ":" && p.peekAt(1).kind == tokenMark {
			label = p.copyName()
			p.mustMark(":")
		}
		if p.err != nil {
			return
		}
		read := p.statements()[p.peek().word]
		if read == nil || p.peek().kind != tokenWord {
			p.fail("the statement %s is not taken over", p.peek())
			return
		}
		read()
		if label != "" && (p.peek().kind == tokenName || p.peek().kind == tokenWord) {
			p.copyName()
		}
	})
}

// statements are the statements that programs may have, by their first word.
func (p *parser) statements() map[string]func() {
	return map[string]func(){
		"begin": p.block, "if": p.ifStatement, "case": p.caseStatement, "set": p.set, "select": p.query, "with": p.query, "insert": p.insert,
		"replace": p.insert,
		"update":  p.update, "delete": p.deleteRows, "call": p.callProcedure, "signal": p.signal, "resignal": p.signal,
		"return":  func() { p.must("return"); p.expression() },
		"leave":   func() { p.must("leave"); p.copyName() },
		"iterate": func() { p.must("iterate"); p.copyName() },
		"open":    func() { p.must("open"); p.copyName() },
		"close":   func() { p.must("close"); p.copyName() },
		"loop":    func() { p.must("loop"); p.until("end"); p.must("end", "loop") },
		"while":   func() { p.must("while"); p.expression(); p.must("do"); p.until("end"); p.must("end", "while") },
		"repeat": func() {
			p.must("repeat")
			p.until("until")
			p.must("until")
			p.expression()
			p.must("end", "repeat")
		},
		"fetch": func() {
			p.must("fetch")
			p.copy("from")
			p.copyName()
			p.must("into")
			p.list(p.variable)
		},
	}
}

// until reads statements until one of the words.
func (p *parser) until(words ...string) {
	for p.err == nil && !p.isOne(words...) {
		p.statement()
		p.mustMark(";")
	}
}

func (p *parser) block() {
	p.must("begin")
	for p.is("declare") {
		p.declaration()
		p.mustMark(";")
	}
	p.until("end")
	p.must("end")
}

func (p *parser) declaration() {
	p.must("declare")
	switch {
	case p.isOne("continue", "exit") && p.peekAt(1).word == "handler":
		p.copyOne("continue", "exit")
		p.must("handler", "for")
		p.list(p.condition)
		p.statement()
	case p.peekAt(1).word == "cursor":
		p.copyName()
		p.must("cursor", "for")
		p.query()
	case p.peekAt(1).word == "condition":
		p.copyName()
		p.must("condition", "for")
		p.condition()
	default:
		p.list(func() { p.declare(p.copyName()) })
		p.variableType()
		if p.copy("default") {
			p.expression()
		}
	}
}

// condition reads what a handler is for.
func (p *parser) condition() {
	switch {
	case p.copy("not", "found"), p.copy("sqlexception"), p.copy("sqlwarning"):
	case p.copy("sqlstate"):
		p.copy("value")
		p.copyString()
	case p.peek().kind == tokenNumber:
		p.copyNumber()
	default:
		p.copyName()
	}
}

func (p *parser) ifStatement() {
	p.must("if")
	p.expression()
	p.must("then")
	p.until("elseif", "else", "end")
	for p.copy("elseif") {
		p.expression()
		p.must("then")
		p.until("elseif", "else", "end")
	}
	if p.copy("else") {
		p.until("end")
	}
	p.must("end", "if")
}

func (p *parser) caseStatement() {
	p.must("case")
	if !p.is("when") {
		p.expression()
	}
	for p.copy("when") {
		p.expression()
		p.must("then")
		p.until("when", "else", "end")
	}
	if p.copy("else") {
		p.until("end")
	}
	p.must("end", "case")
}

// set gives variables of the program values; those of the session or server are none.
func (p *parser) set() {
	p.must("set")
	p.list(func() {
		p.variable()
		if !p.copyMark("=") && !p.copyMark(":=") {
			p.fail("%s stands where = should be", p.peek())
		}
		p.expression()
	})
}

// assignments reads columns with the values they get.
func (p *parser) assignments() {
	p.list(func() {
		p.identifier()
		p.mustMark("=")
		p.expression()
	})
}

func (p *parser) insert() {
	if !p.copyOne("insert", "replace") {
		p.fail("%s is not understood here", p.peek())
	}
	p.copyOne("low_priority", "high_priority")
	p.copy("ignore")
	p.copy("into")
	p.copyTable()
	if p.isMark("(") && !p.bracketsQuery() {
		p.names()
	}
	switch {
	case p.copyOne("values", "value"):
		p.list(p.bracketed)
	case p.copy("set"):
		p.assignments()
	default:
		p.query()
	}
	if p.copy("on", "duplicate", "key", "update") {
		p.assignments()
	}
}

func (p *parser) update() {
	p.must("update")
	p.copy("ignore")
	p.tableList()
	p.must("set")
	p.assignments()
	if p.copy("where") {
		p.expression()
	}
	p.orderBy()
	p.limit()
}

func (p *parser) deleteRows() {
	p.must("delete", "from")
	p.copyTable()
	if p.copy("where") {
		p.expression()
	}
	p.orderBy()
	p.limit()
}

func (p *parser) callProcedure() {
	p.must("call")
	n := p.qualified()
	if !p.routines[strings.ToLower(n)] {
		p.fail("the procedure %s is not one of the database's", n)
	}
	p.out.putTable(n)
	if p.isMark("(") {
		p.arguments("")
	}
}

func (p *parser) signal() {
	if !p.copyOne("signal", "resignal") {
		p.fail("%s is not understood here", p.peek())
	}
	if p.is("sqlstate") {
		p.condition()
	}
	if p.copy("set") {
		p.list(func() {
			if !p.copyOne("message_text", "mysql_errno") {
				p.fail("%s is not understood here", p.peek())
			}
			p.mustMark("=")
			p.expression()
		})
	}
}

// SortPrograms puts programs in an order in which they can be made: views behind the views that they name, and all behind
// the functions that they may call.
func SortPrograms(all []*Program) []*Program {
	views := map[string]*Program{}
	for _, g := range all {
		if g.isView() {
			views[g.Name] = g
		}
	}
	var out []*Program
	done := map[*Program]bool{}
	var add func(g *Program)
	add = func(g *Program) {
		if done[g] {
			return
		}
		done[g] = true
		for _, name := range g.Uses {
			if v := views[name]; v != nil && g.isView() {
				add(v)
			}
		}
		out = append(out, g)
	}
	for _, kind := range []string{"extension", "type", "domain", "sequence", "function", "procedure", "view", "materialized view", "trigger"} {
		for _, g := range all {
			if g.Type == kind {
				add(g)
			}
		}
	}
	return out
}

// Script returns the statements that make programs as a part of a script that the engine's own client runs.
func (d *Dialect) Script(all []*Program) string {
	var out strings.Builder
	end := ";"
	if d == MySQL && len(all) > 0 { // whose client does not know where a program ends
		out.WriteString("DELIMITER ;;\n")
		end = ";;"
	}
	for _, g := range all {
		out.WriteString(g.Text(nil) + end + "\n")
	}
	if end == ";;" {
		out.WriteString("DELIMITER ;\n")
	}
	return out.String()
}

// Apart returns the programs that come before tables, and the others.
func Apart(all []*Program) (first, later []*Program) {
	for _, g := range all {
		if g.First() {
			first = append(first, g)
		} else {
			later = append(later, g)
		}
	}
	return first, later
}

func (g *Program) isView() bool { return g.Type == "view" || g.Type == "materialized view" }

// String names the program for people.
func (g *Program) String() string { return fmt.Sprintf("%s %s", g.Type, g.Name) }
