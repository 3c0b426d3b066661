package sqltext

import (
	"fmt"
	"strings"
)

// pgFunctions are what definitions of PostgreSQL may call.
var pgFunctions = words(`
	abs age ascii btrim cbrt ceil ceiling char_length character_length chr clock_timestamp coalesce concat concat_ws cos
	date_part date_trunc decode degrees div encode exp extract floor format gen_random_uuid greatest initcap json_array_length
	json_build_array json_build_object json_typeof jsonb_array_length jsonb_build_array jsonb_build_object jsonb_typeof least
	left length ln log lower lpad ltrim make_date md5 mod now nullif octet_length overlay pi position power quote_literal
	radians random regexp_replace repeat replace reverse right round rpad rtrim setweight sha224 sha256 sha384 sha512 sign sin
	split_part sqrt starts_with statement_timestamp strpos substr substring tan to_char to_date to_hex to_number to_timestamp
	to_tsvector transaction_timestamp translate trim trunc upper width_bucket`)

// pgQueryFunctions are what views and programs may call besides.
var pgQueryFunctions = words(`
	array_agg array_append array_cat array_length array_position array_positions array_prepend array_remove array_replace
	array_to_json array_to_string array_upper array_lower avg bit_and bit_or bool_and bool_or cardinality corr count cume_dist
	currval dense_rank every first_value format_type generate_series generate_subscripts isfinite json_agg json_array_elements
	json_array_elements_text json_each json_each_text json_extract_path json_extract_path_text json_object json_object_agg
	json_object_keys json_populate_record jsonb_agg jsonb_array_elements jsonb_array_elements_text jsonb_each jsonb_each_text
	jsonb_extract_path jsonb_extract_path_text jsonb_insert jsonb_object jsonb_object_agg jsonb_object_keys jsonb_pretty jsonb_set
	jsonb_strip_nulls json_strip_nulls json_to_record jsonb_to_record justify_days justify_hours justify_interval lag last_value
	lastval lead make_interval make_time make_timestamp make_timestamptz max min mode nth_value ntile num_nonnulls num_nulls
	percent_rank percentile_cont percentile_disc plainto_tsquery phraseto_tsquery quote_ident quote_nullable rank regexp_matches
	regexp_match regexp_split_to_array regexp_split_to_table row row_number row_to_json stddev stddev_pop stddev_samp string_agg
	string_to_array string_to_table sum timeofday timezone to_json to_jsonb to_regclass to_tsquery ts_headline ts_rank ts_rank_cd
	tsvector_to_array unnest var_pop var_samp variance websearch_to_tsquery xmlagg`)

// pgUnits are what EXTRACT takes of a time.
var pgUnits = words(`century day decade dow doy epoch hour isodow isoyear julian microseconds millennium milliseconds minute month quarter
	second timezone timezone_hour timezone_minute week year`)

var pgNiladic = words("current_timestamp current_date current_time localtime localtimestamp")

var pgMarks = words("~ ~* !~ !~* ~~ ~~* !~~ !~~* @> <@ @@ #> #>> ? ?| ?&")

// pgTypes are the types that columns may have, by the words that they are written with, and what this package calls them: as MySQL
// does where values are written alike.
var pgTypes = map[string]string{
	"smallint": "smallint", "int2": "smallint", "integer": "int", "int": "int", "int4": "int", "bigint": "bigint", "int8": "bigint",
	"smallserial": "smallint", "serial2": "smallint", "serial": "int", "serial4": "int", "bigserial": "bigint", "serial8": "bigint",
	"numeric": "decimal", "decimal": "decimal", "real": "float", "float4": "float", "float8": "double", "double": "double",
	"boolean": "boolean", "bool": "boolean", "text": "text", "varchar": "varchar", "character": "char", "char": "char", "bpchar": "char",
	"bytea": "bytea", "date": "date", "timestamp": "timestamp", "timestamptz": "timestamp", "time": "time", "timetz": "time",
	"interval": "interval", "uuid": "uuid", "json": "json", "jsonb": "jsonb", "xml": "xml", "inet": "inet", "cidr": "cidr",
	"macaddr":  "macaddr",
	"macaddr8": "macaddr8", "money": "money", "bit": "bits", "varbit": "bits", "point": "point", "line": "line", "lseg": "lseg", "box": "box",
	"path": "path", "polygon": "polygon", "circle": "circle", "tsvector": "tsvector", "tsquery": "tsquery", "int4range": "range",
	"int8range": "range", "numrange": "range", "tsrange": "range", "tstzrange": "range", "daterange": "range", "regclass": "regclass",
	"name": "name",
}

// pgType reads a type of PostgreSQL and writes it (PostgreSQL manual, chapter 8). It returns what this package calls it.
func (p *parser) pgType() string {
	t := p.next()
	if t.kind == tokenWord && t.word == "pg_catalog" && p.skipMark(".") {
		t = p.next()
	}
	if t.kind == tokenWord && p.d == Postgres && t.word == p.database && p.skipMark(".") {
		t = p.next()
	}
	name, own := p.types[p.folded(t)]
	if !own || t.kind == tokenWord && pgTypes[t.word] != "" {
		name, own = pgTypes[strings.ToLower(t.text)], false
	}
	if t.kind != tokenWord && t.kind != tokenName || name == "" {
		p.fail("the type %s is not known, or not one that is taken over", t)
		return ""
	}
	if own {
		p.out.put(p.d.Quote(p.folded(t)))
	} else {
		p.out.put(strings.ToLower(t.text))
	}
	switch t.word {
	case "double":
		p.must("precision")
	case "character", "bit", "char":
		if p.copy("varying") && name == "char" {
			name = "varchar"
		}
	}
	length := func() {
		if p.isMark("(") {
			p.openTight()
			p.list(p.copyNumber)
			p.mustMark(")")
		}
	}
	length()
	if _ = p.copy("without", "time", "zone") || p.copy("with", "time", "zone"); name == "interval" {
		p.copyOne("year", "month", "day", "hour", "minute", "second")
	}
	for p.isMark("[") {
		p.skipMark("[")
		if p.peek().kind == tokenNumber {
			p.next()
		}
		if !p.skipMark("]") {
			p.fail("%s stands where ] should be", p.peek())
		}
		p.out.join("[]")
		name = "array"
	}
	return name
}

// pgCast reads ::type.
func (p *parser) pgCast() {
	p.skipMark("::")
	out := p.out
	p.fresh()
	p.pgType()
	cast := p.out.render(nil)
	if p.out = out; p.err == nil {
		p.out.join("::" + cast)
	}
}

// subscript reads [n] or [n:m] behind an array.
func (p *parser) subscript() {
	p.skipMark("[")
	p.out.join("[")
	if !p.isMark(":") {
		p.expression()
	}
	if p.skipMark(":") {
		p.out.join(":")
		if !p.isMark("]") {
			p.expression()
		}
	}
	if !p.skipMark("]") {
		p.fail("%s stands where ] should be", p.peek())
	}
	p.out.join("]")
}

// nextNumber reads the brackets of nextval('sequence'::regclass), of a sequence of the database.
func (p *parser) nextNumber() {
	p.out.put("nextval")
	p.openTight()
	t := p.next()
	named, err := p.d.tokenize([]byte(t.text))
	if n := len(named); err == nil && n == 3 && named[0].text == p.database && named[1].text == "." {
		named = named[2:]
	}
	if t.kind != tokenString || err != nil || len(named) != 1 || !p.counters[p.folded(named[0])] {
		p.fail("nextval(%s): that is not a sequence of the database that stands alone", t)
		return
	}
	p.out.putTableString(p.folded(named[0]))
	if p.skipMark("::") {
		p.skip("regclass")
	}
	p.out.join("::regclass")
	p.mustMark(")")
}

// pgArray reads ARRAY[…].
func (p *parser) pgArray() {
	p.next()
	p.out.put("ARRAY")
	p.skipMark("[")
	p.out.join("[")
	if !p.isMark("]") {
		p.list(p.expression)
	}
	if !p.skipMark("]") {
		p.fail("%s stands where ] should be", p.peek())
	}
	p.out.join("]")
}

// collation reads the name of a collation, which may stand in a schema.
func (p *parser) collation() {
	n := p.name()
	if p.skipMark(".") {
		if !strings.EqualFold(n, "pg_catalog") {
			p.fail("the collation of schema %s is not the engine's own", n)
		}
		n = p.name()
	}
	p.out.put(p.d.Quote(n))
}

// pgTable reads CREATE TABLE of PostgreSQL (PostgreSQL manual, "CREATE TABLE").
func (d *Definition) pgTable(p *parser) {
	if !p.skipMark("(") {
		p.fail("it is not made of columns, %s comes first", p.peek())
	}
	for p.err == nil {
		p.fresh()
		switch {
		case p.isOne("constraint", "primary", "unique", "check", "foreign", "exclude"):
			d.tableConstraint(p)
		default:
			d.pgColumn(p)
		}
		if !p.skipMark(",") {
			break
		}
	}
	if !p.skipMark(")") {
		p.fail("%s is not understood here", p.peek())
	}
}

func (d *Definition) pgColumn(p *parser) {
	c := ColumnDefinition{Name: p.copyName()}
	word := p.peek().word
	c.Type = p.pgType()
	c.counted = strings.Contains(word, "serial")
	for p.err == nil {
		switch {
		case p.copy("not", "null"), p.copy("null"):
		case p.copy("collate"):
			p.collation()
		case p.copy("default"):
			p.expression()
		case p.copy("primary", "key"):
			d.PrimaryKey = []string{c.Name}
		case p.copy("unique"):
		case p.is("check"):
			p.check()
		case p.copy("generated", "by", "default", "as", "identity"), p.copy("generated", "always", "as", "identity"):
			c.counted = true
		case p.copy("generated", "always", "as"):
			c.Generated = true
			p.bracketed()
			p.must("stored")
		default:
			if c.text = p.out.render(nil); p.out.names() {
				c.line = p.out
			}
			d.Columns = append(d.Columns, c)
			return
		}
	}
}

// tableConstraint reads a constraint of a table, which may have a name. Foreign keys of PostgreSQL come behind the rows; SQLite
// knows them within the table alone.
func (d *Definition) tableConstraint(p *parser) {
	name := ""
	if p.skip("constraint") {
		name = p.name()
		p.out.put("CONSTRAINT")
		p.out.putTable(name)
	}
	switch {
	case p.copy("primary", "key"):
		d.PrimaryKey = p.keyColumns()
	case p.copy("unique"):
		p.copy("nulls", "not", "distinct")
		p.keyColumns()
	case p.is("check"):
		p.check()
		p.skip("no", "inherit")
	case p.is("foreign") && p.d == Postgres:
		f := p.foreignKey(d.Table, name)
		p.deferrable()
		f.dialect = p.d
		d.Constraints = append(d.Constraints, f)
		return
	case p.is("foreign"):
		p.copy("foreign", "key")
		p.names()
		p.references()
	default:
		p.fail("%s is not understood here", p.peek())
	}
	p.conflict()
	p.deferrable()
	d.lines = append(d.lines, p.out)
}

// deferrable reads when a constraint is checked.
func (p *parser) deferrable() {
	_ = p.copy("not", "deferrable") || p.copy("deferrable")
	_ = p.copy("initially", "deferred") || p.copy("initially", "immediate")
}

// keyColumns reads the columns of a key, with how they are sorted.
func (p *parser) keyColumns() (names []string) {
	p.mustMark("(")
	p.list(func() {
		if t := p.peek(); t.kind == tokenName || t.kind == tokenWord && (p.peekAt(1).kind != tokenMark || p.peekAt(1).text != "(") {
			names = append(names, p.copyName())
		} else {
			p.expression()
		}
		if p.copy("collate") {
			p.collation()
		}
		if p.d == Postgres && p.is(p.database) && p.peekAt(1).text == "." {
			p.next()
			p.next()
		}
		if t := p.peek(); p.d == Postgres && t.kind == tokenWord && strings.HasSuffix(t.word, "_ops") {
			p.copy(t.word) // a class of operators
		}
		p.copyOne("asc", "desc")
		_ = p.copy("nulls", "first") || p.copy("nulls", "last")
	})
	p.mustMark(")")
	return names
}

// index reads CREATE INDEX of PostgreSQL or SQLite, behind CREATE, and returns the table that it is of.
func (p *parser) index() (table string) {
	p.out.put("CREATE")
	p.copy("unique")
	p.must("index")
	p.skip("if", "not", "exists")
	name := p.anyDatabase()
	p.out.putTable(name)
	p.must("on")
	p.skip("only")
	table = p.anyDatabase()
	p.out.putTable(table)
	if p.copy("using") && !p.copyOne("btree", "hash", "gin", "gist", "brin", "spgist") {
		p.fail("%s is not understood behind USING", p.peek())
	}
	p.keyColumns()
	if p.copy("include") {
		p.names()
	}
	p.copy("nulls", "not", "distinct")
	if p.copy("where") {
		p.expression()
	}
	return table
}

// setCounter reads what sets the next automatic number of a column: SELECT setval(pg_get_serial_sequence('table', 'column'), n, false).
func (p *parser) setCounter() (table, column, next string) {
	text := func() string {
		t := p.next()
		if t.kind != tokenString {
			p.fail("%s stands where a string should be", t)
		}
		return t.text
	}
	if !p.skip("select", "setval") || !p.skipMark("(") || !p.skip("pg_get_serial_sequence") || !p.skipMark("(") {
		p.fail("a query has no place in a release")
	}
	table = text()
	if inner, err := Postgres.tokenize([]byte(table)); err == nil && len(inner) == 1 && inner[0].kind == tokenName {
		table = inner[0].text
	} else {
		p.fail("%q is not the name of a table", table)
	}
	p.skipMark(",")
	column = text()
	if !p.skipMark(")") || !p.skipMark(",") {
		p.fail("%s is not understood here", p.peek())
	}
	n := p.next()
	if n.kind != tokenNumber || strings.Trim(n.text, "0123456789") != "" {
		p.fail("%s is not a number", n)
	}
	if !p.skipMark(",") || !p.skip("false") || !p.skipMark(")") {
		p.fail("%s is not understood here", p.peek())
	}
	return table, column, n.text
}

func pgCounter(table, column, next string) string {
	return fmt.Sprintf("SELECT setval(pg_get_serial_sequence(%s, %s), %s, false)", Postgres.String(Postgres.Quote(table)),
		Postgres.String(column), next)
}
