package sqltext

import "strings"

// liteFunctions are what definitions of SQLite may call.
var liteFunctions = words(`
	abs ceil ceiling char coalesce concat concat_ws cos date datetime exp floor format glob hex ifnull iif instr json json_array
	json_array_length json_extract json_object json_quote json_type json_valid julianday length likelihood likely ln log lower
	ltrim max min mod nullif octet_length pi pow power printf quote random randomblob replace round rtrim sign sin soundex sqrt
	strftime substr substring tan time timediff trim trunc typeof unhex unicode unixepoch unlikely upper zeroblob`)

// liteQueryFunctions are what views and triggers may call besides.
var liteQueryFunctions = words(`avg changes count cume_dist dense_rank first_value group_concat json_each json_group_array json_group_object lag
	last_insert_rowid last_value lead nth_value ntile percent_rank raise rank row_number string_agg sum total total_changes`)

var liteNiladic = words("current_timestamp current_date current_time")

// liteType reads a type of SQLite, which is any words, perhaps with lengths, and writes it. It returns what this package calls it: the
// affinity that values have (SQLite documentation, "Datatypes In SQLite", 3.1).
func (p *parser) liteType() string {
	var name []string
	for p.peek().kind == tokenWord && !p.isOne("constraint", "primary", "not", "null", "unique", "check", "default", "collate", "references",
		"generated",
		"as", "on") || p.peek().kind == tokenName {
		name = append(name, strings.ToUpper(p.name()))
	}
	if len(name) > 0 {
		p.out.put(strings.Join(name, " "))
		for _, n := range name {
			if !plainName(n) {
				p.fail("the type %q is not a plain name", n)
			}
		}
		if p.isMark("(") {
			p.openTight()
			p.list(p.copyNumber)
			p.mustMark(")")
		}
	}
	return LiteAffinity(strings.Join(name, " "))
}

// LiteAffinity returns what a column of a type makes of values: "int", "text", "blob", "double" or "decimal".
func LiteAffinity(declared string) string {
	has := func(part string) bool { return strings.Contains(strings.ToUpper(declared), part) }
	switch {
	case has("INT"):
		return "bigint"
	case has("CHAR"), has("CLOB"), has("TEXT"):
		return "text"
	case has("BLOB"), declared == "":
		return "blob"
	case has("REAL"), has("FLOA"), has("DOUB"):
		return "double"
	}
	return "number"
}

// liteTable reads CREATE TABLE of SQLite (SQLite documentation, "CREATE TABLE").
func (d *Definition) liteTable(p *parser) {
	if !p.skipMark("(") {
		p.fail("it is not made of columns, %s comes first", p.peek())
	}
	for p.err == nil {
		p.fresh()
		switch {
		case p.isOne("constraint", "primary", "unique", "check", "foreign") && p.peek().kind == tokenWord:
			d.tableConstraint(p)
		default:
			d.liteColumn(p)
		}
		if !p.skipMark(",") {
			break
		}
	}
	if !p.skipMark(")") {
		p.fail("%s is not understood here", p.peek())
	}
	for p.err == nil && p.peek().kind != tokenEnd {
		switch {
		case p.skip("without", "rowid"):
			d.options = append(d.options, "WITHOUT ROWID")
		case p.skip("strict"):
			d.options = append(d.options, "STRICT")
		default:
			return
		}
		if !p.skipMark(",") {
			return
		}
	}
}

func (d *Definition) liteColumn(p *parser) {
	c := ColumnDefinition{Name: p.copyName()}
	c.Type = p.liteType()
	for p.err == nil {
		if p.skip("constraint") {
			p.name()
		}
		switch {
		case p.copy("not", "null"), p.copy("null"), p.copy("unique"):
		case p.copy("primary", "key"):
			d.PrimaryKey = []string{c.Name}
			p.copyOne("asc", "desc")
			p.conflict()
			c.counted = p.copy("autoincrement")
		case p.copy("collate"):
			p.collation()
		case p.copy("default"):
			p.defaultValue()
		case p.is("check"):
			p.check()
		case p.is("references"):
			p.references()
		case p.is("generated"), p.is("as"):
			c.Generated = true
			p.copy("generated", "always")
			p.must("as")
			p.bracketed()
			p.copyOne("virtual", "stored")
		default:
			c.line = p.out
			d.Columns = append(d.Columns, c)
			return
		}
		p.conflict()
	}
}

// references reads what a foreign key leads to.
func (p *parser) references() {
	p.must("references")
	p.copyTable()
	if p.isMark("(") {
		p.names()
	}
	for p.copy("on") {
		if !p.copyOne("delete", "update") || !p.copyOne("cascade", "restrict") && !p.copy("set", "null") && !p.copy("no", "action") &&
			!p.copy("set", "default") {
			p.fail("%s is not understood behind ON", p.peek())
		}
	}
	p.deferrable()
}

// conflict reads what is done when a constraint does not hold.
func (p *parser) conflict() {
	if p.d == SQLite && p.copy("on", "conflict") && !p.copyOne("rollback", "abort", "fail", "ignore", "replace") {
		p.fail("%s is not understood behind ON CONFLICT", p.peek())
	}
}
