package sqltext

import (
	"strconv"
	"strings"
)

// pgExtension is what an extension brings that definitions may name.
type pgExtension struct{ types, functions []string }

// pgExtensions are the extensions that a site's own account may make: PostgreSQL calls them trusted (PostgreSQL manual, appendix F).
var pgExtensions = map[string]pgExtension{
	"btree_gin": {}, "btree_gist": {}, "citext": {types: []string{"citext"}}, "cube": {types: []string{"cube"}},
	"fuzzystrmatch": {functions: fields("levenshtein soundex metaphone dmetaphone difference")},
	"hstore":        {types: []string{"hstore"}, functions: fields("hstore akeys avals skeys svals hstore_to_json")},
	"intarray":      {}, "isn": {types: fields("isbn isbn13 issn issn13 ean13 upc")}, "lo": {},
	"ltree":    {types: fields("ltree lquery ltxtquery"), functions: fields("nlevel subpath subltree text2ltree ltree2text")},
	"pgcrypto": {functions: fields("digest hmac crypt gen_salt gen_random_bytes")},
	"pg_trgm":  {functions: fields("similarity word_similarity strict_word_similarity show_trgm")},
	"plpgsql":  {}, "seg": {types: []string{"seg"}}, "tablefunc": {}, "tcn": {},
	"unaccent":  {functions: []string{"unaccent"}},
	"uuid-ossp": {functions: fields("uuid_generate_v1 uuid_generate_v1mc uuid_generate_v3 uuid_generate_v4 uuid_generate_v5 uuid_nil")},
}

var fields = strings.Fields

// pgProgram reads CREATE VIEW, FUNCTION and the like of PostgreSQL (PostgreSQL manual, part VI, "SQL Commands").
func (p *parser) pgProgram() (*Program, error) {
	p.must("create")
	p.skip("or", "replace")
	p.skip("constraint")
	g := &Program{Type: p.peek().word, text: p.out}
	switch {
	case p.copy("extension"):
		p.pgExtension(g)
	case p.copy("type"):
		p.pgMadeType(g)
	case p.copy("domain"):
		p.pgDomain(g)
	case p.copy("sequence"):
		p.pgSequence(g)
	case p.copy("view"), p.copy("materialized", "view"):
		p.scope = inQuery
		p.pgView(g)
	case p.copy("function"), p.copy("procedure"):
		p.pgRoutine(g)
	case p.copy("trigger"):
		p.pgTrigger(g)
	default:
		p.fail("%s is not understood here", p.peek())
	}
	return p.program(g)
}

func (p *parser) pgExtension(g *Program) {
	p.skip("if", "not", "exists")
	p.out.put("IF NOT EXISTS")
	g.Name = p.copyName()
	if _, trusted := pgExtensions[g.Name]; !trusted {
		p.fail("the extension %s is not one that a site's own account may make; ask for it to be made in the new database", g.Name)
	}
	p.skip("with")
	if p.skip("schema") {
		p.ownDatabase(p.name())
	}
}

// pgMadeType reads a type with a list of values, one that is put together of others, or one of ranges (PostgreSQL manual, "CREATE TYPE").
func (p *parser) pgMadeType(g *Program) {
	g.Name = p.qualified()
	p.out.put(p.d.Quote(g.Name))
	p.must("as")
	switch {
	case p.copy("enum"):
		g.base = "enum"
		p.mustMark("(")
		if !p.isMark(")") {
			p.list(func() { p.copyString() })
		}
	case p.copy("range"):
		g.base = "range"
		p.mustMark("(")
		p.must("subtype")
		p.mustMark("=")
		p.pgType()
		if p.skipMark(",") { // the type of several ranges, which is made along with it
			if !p.skip("multirange_type_name") || !p.skipMark("=") {
				p.fail("the type %s has functions or an order of its own", g.Name)
			}
			p.qualified()
		}
	default:
		g.base = "composite"
		p.mustMark("(")
		p.scope = inTable
		p.list(func() {
			p.copyName()
			p.pgType()
			if p.copy("collate") {
				p.collation()
			}
		})
	}
	p.mustMark(")")
}

func (p *parser) pgDomain(g *Program) {
	g.Name = p.qualified()
	p.out.put(p.d.Quote(g.Name))
	p.must("as")
	g.base = p.pgType()
	p.scope = inTable
	for p.err == nil && p.peek().kind != tokenEnd {
		switch {
		case p.copy("not", "null"), p.copy("null"):
		case p.copy("constraint"):
			p.copyName()
		case p.copy("collate"):
			p.collation()
		case p.copy("default"):
			p.expression()
		case p.is("check"):
			p.check()
			_ = p.skip("not", "valid") || p.skip("no", "inherit")
		default:
			p.fail("%s is not understood here", p.peek())
		}
	}
}

func (p *parser) pgSequence(g *Program) {
	p.skip("if", "not", "exists")
	g.Name = p.qualified()
	p.out.putTable(g.Name)
	g.next, g.step = 1, 1
	for p.err == nil && p.peek().kind != tokenEnd {
		switch {
		case p.copy("as"):
			p.pgType()
		case p.skip("start"):
			p.skip("with")
			g.next = p.wholeNumber()
		case p.copy("increment"):
			p.skip("by")
			if g.step = p.wholeNumber(); g.step == 0 {
				p.fail("a sequence goes on by 0")
			}
			p.out.put(strconv.FormatInt(g.step, 10))
		case p.copyOne("cache", "minvalue", "maxvalue"):
			p.out.put(strconv.FormatInt(p.wholeNumber(), 10))
		case p.copy("no", "minvalue"), p.copy("no", "maxvalue"), p.copy("no", "cycle"), p.copy("cycle"):
		default:
			p.fail("%s is not understood here", p.peek())
		}
	}
}

// wholeNumber reads a number of 64 bits.
func (p *parser) wholeNumber() int64 {
	sign := map[bool]string{true: "-"}[p.skipMark("-")]
	t := p.next()
	n, err := strconv.ParseInt(sign+t.text, 10, 64)
	if t.kind != tokenNumber || err != nil {
		p.fail("%s is not a whole number", t)
	}
	return n
}

func (p *parser) pgView(g *Program) {
	g.Name = p.copyTable()
	p.tables = nil
	if p.isMark("(") {
		p.names()
	}
	if p.skip("with") {
		p.viewOptions()
	}
	p.must("as")
	p.query()
	switch {
	case g.Type == "materialized":
		g.Type = "materialized view"
		_ = p.copy("with", "data") || p.skip("with", "no", "data")
	case p.copy("with"):
		p.copyOne("cascaded", "local")
		p.must("check", "option")
	}
}

// viewOptions reads what stands in brackets behind WITH, and writes what a view with other rights or checks would mean otherwise.
func (p *parser) viewOptions() {
	p.out.put("WITH")
	p.mustMark("(")
	p.list(func() {
		if !p.copyOne("security_barrier", "security_invoker", "check_option") {
			p.fail("the option %s of a view is not understood", p.peek())
		}
		if p.skipMark("=") {
			p.out.join("=")
			p.out.join(p.plainWord())
		}
	})
	p.mustMark(")")
}

// pgRoutine reads a function or a procedure, whose body is written in SQL or PL/pgSQL.
func (p *parser) pgRoutine(g *Program) {
	g.Name = p.qualified()
	p.out.putTable(g.Name)
	p.mustMark("(")
	if !p.isMark(")") {
		p.list(p.parameter)
	}
	p.mustMark(")")
	if p.copy("returns") {
		p.returns()
	}
	p.routines[strings.ToLower(g.Name)] = true // it may call itself
	language, body := "", ""
	for p.err == nil && p.peek().kind != tokenEnd {
		switch {
		case p.skip("language"):
			language = strings.ToLower(p.plainWord())
		case p.copyOne("immutable", "stable", "volatile", "strict", "window"), p.copy("called", "on", "null", "input"),
			p.copy("returns", "null", "on", "null", "input"):
		case p.copy("parallel"):
			p.out.put(p.plainWord())
		case p.copyOne("cost", "rows"):
			p.copyNumber()
		case p.skip("leakproof"), p.skip("not", "leakproof"): // for administrators
		case p.skip("external"), p.skip("security", "invoker"), p.skip("security", "definer"): // all of a site's are its account's
		case p.skip("set", "search_path"):
			p.searchPath()
		case p.skip("as"):
			t := p.next()
			if body = t.text; t.kind != tokenString {
				p.fail("its body is no text; write it with AS $$…$$")
			}
		default:
			p.fail("%s is not understood here", p.peek())
		}
	}
	g.reads = p.body(language, body) && g.Type == "function"
}

// searchPath reads SET search_path of a function, which is that of the database itself.
func (p *parser) searchPath() {
	if !p.skip("to") && !p.skipMark("=") {
		p.fail("%s is not understood here", p.peek())
	}
	for p.err == nil {
		if t := p.next(); t.text != p.database && t.text != "pg_temp" && t.text != "pg_catalog" {
			p.fail("it looks for tables in the schema %s, and only those of %s are taken over", t, p.database)
		}
		if !p.skipMark(",") {
			return
		}
	}
}

// behindType are words that may follow the first word of a type.
var behindType = words("default precision varying without with")

// parameter reads [mode] [name] type [DEFAULT value].
func (p *parser) parameter() {
	p.copyOne("in", "out", "inout", "variadic")
	t, behind := p.peek(), p.peekAt(1)
	alone := behind.kind == tokenMark || behind.kind == tokenEnd || behind.kind == tokenWord && behindType[behind.word]
	if !alone || behind.text == "." && t.word != p.database {
		p.declare(p.copyName())
	}
	p.variableType()
	if p.copy("default") || p.copyMark("=") {
		p.expression()
	}
}

// returns reads what a function returns.
func (p *parser) returns() {
	if p.copy("table") {
		p.mustMark("(")
		p.list(func() {
			p.declare(p.copyName())
			p.variableType()
		})
		p.mustMark(")")
		return
	}
	p.copy("setof")
	p.variableType()
}

// pgVariableType reads the type of a variable of PostgreSQL: one of the engine or the database, that of a column or of a table's rows.
func (p *parser) pgVariableType() {
	t := p.peek()
	switch {
	case p.copyOne("void", "trigger", "record", "anyelement", "anyarray", "anynonarray", "anyenum"):
	case t.kind == tokenWord && pgTypes[t.word] != "" || p.types[p.folded(t)] != "" || t.word == "pg_catalog",
		t.word == p.database && p.types[p.folded(p.peekAt(2))] != "":
		p.pgType()
	default:
		p.copyTable()
		if p.skipMark(".") {
			p.out.join("." + p.d.Quote(p.name()))
		}
		if p.skipMark("%") {
			if !p.isOne("type", "rowtype") {
				p.fail("%s is not understood behind %%", p.peek())
			}
			p.out.join("%" + strings.ToUpper(p.next().word))
		}
		for p.skipMark("[") {
			p.skipMark("]")
			p.out.join("[]")
		}
	}
}

// body reads the body of a function and writes it. It returns whether that is made of queries alone.
func (p *parser) body(language, source string) (queries bool) {
	if p.err != nil {
		return false
	}
	inner := newParserOf(p.d, []byte(source), inProgram)
	inner.routines, inner.engines, inner.types, inner.declared, inner.counters = p.routines, p.engines, p.types, p.declared, p.counters
	inner.depth, inner.rowNames = p.depth, true
	switch language {
	case "sql":
		queries = inner.bodyStatements()
	case "plpgsql":
		inner.plBlock()
		inner.skipMark(";")
	default:
		p.fail("it is written in %q, and only functions in SQL and PL/pgSQL are taken over", language)
	}
	if err := inner.end(); err != nil && p.err == nil {
		p.err = err
	}
	p.tables = append(p.tables, inner.tables...)
	p.out.put("LANGUAGE")
	p.out.put(language)
	p.out.put("AS")
	p.out.putBody(inner.out)
	return queries
}

// bodyStatements reads the statements that a function in SQL is made of, and returns whether all are queries.
func (p *parser) bodyStatements() (queries bool) {
	queries = true
	for p.err == nil && p.peek().kind != tokenEnd {
		queries = queries && p.startsQuery()
		p.rowStatement()
		if p.peek().kind != tokenEnd {
			p.mustMark(";")
		}
	}
	return queries
}

func (p *parser) pgTrigger(g *Program) {
	g.Name = p.copyName()
	if !p.copyOne("before", "after") && !p.copy("instead", "of") {
		p.fail("%s is not understood here", p.peek())
	}
	for p.err == nil {
		if !p.copyOne("insert", "update", "delete", "truncate") {
			p.fail("%s is not understood here", p.peek())
		}
		if p.copy("of") {
			p.list(func() { p.copyName() })
		}
		if !p.copy("or") {
			break
		}
	}
	p.must("on")
	p.copyTable()
	p.deferrable()
	if p.copy("referencing") {
		for p.copyOne("old", "new") {
			p.must("table", "as")
			p.copyName()
		}
	}
	if p.copy("for") {
		p.copy("each")
		p.copyOne("row", "statement")
	}
	if p.rowNames = true; p.copy("when") {
		p.bracketed()
	}
	p.must("execute")
	if !p.skip("function") && !p.skip("procedure") {
		p.fail("%s is not understood here", p.peek())
	}
	p.out.put("FUNCTION")
	n := p.qualified()
	if !p.routines[strings.ToLower(n)] {
		p.fail("the function %s is not one of the database's that is taken over", n)
	}
	p.out.putTable(n)
	p.openTight()
	if !p.isMark(")") {
		p.list(func() { p.operand() })
	}
	p.mustMark(")")
}
