package sqltext

import "strings"

func words(list string) map[string]bool {
	m := map[string]bool{}
	for w := range strings.FieldsSeq(list) {
		m[w] = true
	}
	return m
}

// functions are what definitions may call. What is not here might read files, wait, take locks, or ask other servers.
var functions = words(`abs acos addtime ascii asin atan atan2 bin bit_count bit_length ceil ceiling char_length character_length chr
	coalesce collation charset concat concat_ws conv convert_tz cos cot crc32 curdate current_date current_time current_timestamp curtime
		date datediff
	date_add date_format date_sub day dayname dayofmonth dayofweek dayofyear degrees elt exp export_set field find_in_set floor format
		format_bytes
	from_base64 from_days from_unixtime greatest hex hour if ifnull inet6_aton inet6_ntoa inet_aton inet_ntoa insert instr is_ipv4 is_ipv6
		is_uuid isnull
	json_array json_array_append json_array_insert json_compact json_contains json_contains_path json_depth json_detailed json_exists
		json_extract
	json_insert json_keys json_length json_loose json_merge json_merge_patch json_merge_preserve json_object json_overlaps json_pretty
		json_query
	json_quote json_remove json_replace json_search json_set json_type json_unquote json_valid json_value last_day lcase least left length
		ln localtime
	localtimestamp locate log log10 log2 lower lpad ltrim make_set makedate maketime md5 microsecond mid minute mod month monthname
		natural_sort_key now
	nullif nvl nvl2 oct octet_length ord period_add period_diff pi point position pow power quarter quote radians regexp_instr regexp_like
	regexp_replace regexp_substr repeat replace reverse right round rpad rtrim sec_to_time second sha sha1 sha2 sign sin soundex space sqrt
	st_astext st_geomfromtext st_x st_y str_to_date strcmp subdate adddate substr substring substring_index subtime tan time time_format
		time_to_sec
	timediff timestamp to_base64 to_days to_seconds trim truncate ucase unhex unix_timestamp upper utc_date utc_time utc_timestamp uuid
		uuid_short
	bin_to_uuid uuid_to_bin week weekday weekofyear year yearweek`)

// queryFunctions are what views and programs may call besides.
var queryFunctions = words(`any_value avg bit_and bit_or bit_xor count cume_dist database dense_rank first_value found_rows grouping
	json_arrayagg json_objectagg
	lag last_insert_id last_value lead max median min nth_value ntile percent_rank rand rank row_count row_number schema std stddev
		stddev_pop stddev_samp
	sum values value var_pop var_samp variance`)

// niladic functions may be called without brackets.
var niladic = words("current_timestamp current_date current_time localtime localtimestamp utc_date utc_time utc_timestamp")

// units of time, for INTERVAL and its like.
var units = words(`microsecond second minute hour day week month quarter year second_microsecond minute_microsecond minute_second
	hour_microsecond hour_second
	hour_minute day_microsecond day_second day_minute day_hour year_month`)

var binaryMarks = words("= <=> <> != < <= > >= + - * / % | & ^ << >> || && -> ->>")
var binaryWords = words("and or xor div mod like regexp rlike between escape in")

// expression reads an expression and writes it, token by token in the same order, so that it means the same.
func (p *parser) expression() {
	p.nested(func() {
		for p.err == nil {
			for signs := 0; p.copyMark("-") || p.copyMark("+") || p.copyMark("~") || p.copyMark("!") || p.copyOne("not", "binary"); signs++ {
				if signs > maxNesting {
					p.fail("it is nested more than %d deep", maxNesting)
					break
				}
			}
			p.operand()
			p.suffixes()
			if !p.operator() {
				return
			}
		}
	})
}

// suffixes reads what follows an operand and has none of its own.
func (p *parser) suffixes() {
	for p.err == nil {
		switch {
		case p.d == Postgres && p.isMark("::"):
			p.pgCast()
		case p.d == Postgres && p.isMark("["):
			p.subscript()
		case p.d == Postgres && p.copy("at", "time", "zone"):
			p.operand()
		case p.d == Postgres && p.copy("is", "not", "distinct", "from"), p.d == Postgres && p.copy("is", "distinct", "from"):
			p.operand()
		case p.copy("is"):
			p.copy("not")
			if !p.copyOne("null", "true", "false", "unknown") {
				p.fail("%s is not understood behind IS", p.peek())
			}
		case p.copy("collate"):
			if p.d != MySQL {
				p.collation()
				continue
			}
			p.out.put(p.plainWord())
		default:
			return
		}
	}
}

// operator reads what stands between two operands.
func (p *parser) operator() bool {
	t := p.peek()
	switch {
	case t.kind == tokenMark && (binaryMarks[t.text] || p.d == Postgres && pgMarks[t.text]):
		return p.copyMark(t.text)
	case p.is("not") && binaryWords[p.peekAt(1).word]:
		return p.copy("not") && p.copyOne(p.peek().word)
	case p.d == Postgres && p.isOne("ilike", "similar"), p.d == Postgres && p.is("not") && (p.peekAt(1).word == "ilike" ||
		p.peekAt(1).word == "similar"), p.d == SQLite && p.isOne("glob"):
		p.copy("not")
		return p.copyOne("ilike", "glob") || p.copy("similar", "to")
	case t.kind == tokenWord && binaryWords[t.word]:
		return p.copy(t.word)
	case p.is("sounds", "like"):
		return p.copy("sounds", "like")
	}
	return false
}

func (p *parser) operand() {
	t := p.peek()
	switch t.kind {
	case tokenString:
		for p.peek().kind == tokenString {
			p.copyString()
		}
	case tokenNumber, tokenBytes:
		p.next()
		p.out.put(t.text)
	case tokenParameter:
		if p.next(); p.scope != inProgram {
			p.fail("the parameter %s has no place here", t)
		}
		p.out.put(t.text)
	case tokenName:
		p.identifier()
	case tokenWord:
		p.wordOperand(t)
	case tokenMark:
		switch {
		case p.isMark("("):
			p.bracketed()
		case p.d == MySQL && p.scope == inProgram && p.skipMark("@"):
			p.out.put("@")
			p.out.join(Quote(p.name()))
		default:
			p.fail("%s stands where a value should be", t)
		}
	default:
		p.fail("a value is missing")
	}
}

// bracketed reads expressions, or a query, in brackets.
func (p *parser) bracketed() {
	p.mustMark("(")
	if p.startsQuery() {
		p.query()
	} else {
		p.list(p.expression)
	}
	p.mustMark(")")
}

// wordOperand reads an operand that begins with a bare word.
func (p *parser) wordOperand(t token) {
	call := p.peekAt(1).kind == tokenMark && p.peekAt(1).text == "("
	switch {
	case p.copyOne("null", "true", "false"):
	case p.is("default") && !call && p.scope == inProgram:
		p.must("default")
	case t.text[0] == '_' && (p.peekAt(1).kind == tokenString || p.peekAt(1).kind == tokenBytes):
		p.next()
		if !plainName(t.text) {
			p.fail("%s is not a character set", t)
		}
		p.out.put(t.word)
		p.operand()
	case p.isOne("date", "time", "timestamp") && p.peekAt(1).kind == tokenString:
		p.must(t.word)
		p.copyString()
	case p.is("case"):
		p.caseExpression()
	case p.d == Postgres && pgTypes[t.word] != "" && p.peekAt(1).kind == tokenString: // type 'value'
		p.pgType()
		p.copyString()
	case p.d == MySQL && p.is("interval"):
		p.must("interval")
		p.expression()
		p.unit()
	case p.is("exists") && call:
		p.must("exists")
		p.mustMark("(")
		p.query()
		p.mustMark(")")
	case p.d == Postgres && p.is("array") && p.peekAt(1).text == "[":
		p.pgArray()
	case p.d == Postgres && p.is("array") && call && p.scope != inTable:
		p.must("array")
		p.bracketed()
	case p.d == Postgres && call && p.isOne("any", "all", "some"):
		p.must(t.word)
		p.bracketed()
	case p.d.niladic[t.word] && !call:
		p.must(t.word)
	case p.is("match") && call && p.scope != inTable:
		p.match()
	case call:
		p.call(t)
	default:
		p.identifier()
	}
}

func (p *parser) unit() {
	t := p.next()
	if p.d == Postgres && pgUnits[strings.ToLower(t.text)] && (t.kind == tokenWord || t.kind == tokenString) {
		p.out.put(strings.ToUpper(t.text))
		return
	}
	if !units[t.word] {
		p.fail("%s is not a unit of time", t)
		return
	}
	p.out.put(strings.ToUpper(t.word))
}

func (p *parser) caseExpression() {
	p.must("case")
	if !p.is("when") {
		p.expression()
	}
	for p.copy("when") {
		p.expression()
		p.must("then")
		p.expression()
	}
	if p.copy("else") {
		p.expression()
	}
	p.must("end")
}

func (p *parser) match() {
	p.must("match")
	p.bracketed()
	p.must("against")
	p.mustMark("(")
	p.operand()
	_ = p.copy("in", "boolean", "mode") || p.copy("in", "natural", "language", "mode")
	p.copy("with", "query", "expansion")
	p.mustMark(")")
}

// call reads a call of a function.
func (p *parser) call(t token) {
	p.next()
	name := t.word
	switch name {
	case "cast":
		p.out.put("CAST")
		p.openTight()
		p.expression()
		p.must("as")
		switch p.d {
		case Postgres:
			p.pgType()
		case SQLite:
			p.liteType()
		default:
			p.dataType()
		}
		p.mustMark(")")
		return
	case "convert":
		p.out.put("CONVERT")
		p.openTight()
		p.expression()
		if p.copy("using") {
			p.out.put(p.plainWord())
		} else {
			p.mustMark(",")
			p.dataType()
		}
		p.mustMark(")")
		return
	case "extract":
		p.out.put("EXTRACT")
		p.openTight()
		p.unit()
		p.must("from")
		p.expression()
		p.mustMark(")")
		return
	case "timestampdiff", "timestampadd":
		p.out.put(strings.ToUpper(name))
		p.openTight()
		p.unit()
		p.mustMark(",")
		p.list(p.expression)
		p.mustMark(")")
		return
	case "char":
		p.out.put("CHAR")
		p.openTight()
		p.list(p.expression)
		if p.copy("using") {
			p.out.put(p.plainWord())
		}
		p.mustMark(")")
		return
	case "group_concat":
		p.mayCall(name, p.scope != inTable)
		p.groupConcat()
		return
	}
	if p.d == Postgres && name == "nextval" {
		p.nextNumber()
		return
	}
	p.mayCall(name, p.d.functions[name] || p.engines[name] || p.scope != inTable && (p.d.inQueries[name] || p.routines[name]))
	if p.routines[name] && !p.engines[name] && !p.d.functions[name] && !p.d.inQueries[name] {
		p.out.putTable(p.folded(t))
	} else {
		p.out.put(name)
	}
	p.arguments(name)
	p.behindCall()
}

// behindCall reads what may follow the call of a function that looks at several rows.
func (p *parser) behindCall() {
	if p.scope == inTable {
		return
	}
	if p.d != MySQL && p.is("filter") && p.peekAt(1).text == "(" {
		p.must("filter")
		p.mustMark("(")
		p.must("where")
		p.expression()
		p.mustMark(")")
	}
	if p.copy("over") {
		if t := p.peek(); t.kind == tokenWord || t.kind == tokenName {
			p.copyName()
			return
		}
		p.window()
	}
}

func (p *parser) mayCall(name string, may bool) {
	if !may {
		p.fail("the function %s is not known to be harmless", name)
	}
}

// arguments reads what stands in the brackets of a call.
func (p *parser) arguments(name string) {
	p.openTight()
	switch {
	case p.copyMark(")"):
		return
	case name == "count" && p.copyMark("*"):
	case name == "raise" && p.d == SQLite:
		p.copyOne("ignore", "rollback", "abort", "fail")
		if p.copyMark(",") {
			p.copyString()
		}
	case name == "trim":
		p.copyOne("both", "leading", "trailing")
		if !p.is("from") {
			p.expression()
		}
		if p.copy("from") {
			p.expression()
		}
	default:
		p.copyOne("distinct", "all")
		p.list(p.expression)
		if p.copy("from") { // SUBSTRING(s FROM n FOR m)
			p.expression()
		}
		if p.copy("for") {
			p.expression()
		}
		if p.d != MySQL && p.scope != inTable {
			p.orderBy()
		}
	}
	p.mustMark(")")
}

func (p *parser) groupConcat() {
	p.out.put("GROUP_CONCAT")
	p.openTight()
	p.copy("distinct")
	p.list(p.expression)
	p.orderBy()
	if p.copy("separator") {
		p.copyString()
	}
	p.mustMark(")")
}

func (p *parser) window() {
	p.mustMark("(")
	if p.copy("partition", "by") {
		p.list(p.expression)
	}
	p.orderBy()
	if p.copyOne("rows", "range", "groups") {
		if p.copy("between") {
			p.frameEnd()
			p.must("and")
		}
		p.frameEnd()
	}
	p.mustMark(")")
}

// frameEnd reads where the rows begin or end that a window looks at.
func (p *parser) frameEnd() {
	if !p.copy("current", "row") && !p.copy("unbounded") {
		p.operand()
	}
	if !p.copyOne("preceding", "following") && p.d == MySQL && !p.isMark(")") && !p.is("and") {
		p.fail("%s is not understood here", p.peek())
	}
}

// identifier reads the name of a column or variable, perhaps with its table's in front.
func (p *parser) identifier() {
	first := p.next()
	parts := []token{first}
	for len(parts) < 3 && p.skipMark(".") {
		parts = append(parts, p.next())
	}
	for _, t := range parts {
		if t.kind != tokenName && t.kind != tokenWord || t.text == "" {
			p.fail("%s stands where a name should be", t)
		}
	}
	if p.err != nil {
		return
	}
	if len(parts) == 3 {
		p.ownDatabase(parts[0].text)
		parts = parts[1:]
	}
	switch {
	case len(parts) == 1 && p.isMark("("): // a function whose name is quoted
		p.mayCall(first.text, p.scope != inTable && p.routines[strings.ToLower(first.text)])
		p.out.putTable(p.folded(first))
		p.arguments("")
		p.behindCall()
	case len(parts) == 1:
		p.out.put(p.d.Quote(p.folded(first)))
	case p.isMark("(") && p.d == Postgres && (strings.EqualFold(parts[0].text, p.database) || parts[0].word == "pg_catalog"):
		p.qualifiedCall(parts[0], parts[1])
	case p.scope == inTable:
		p.fail("%s.%s: the definition of a table names its own columns only", parts[0], parts[1])
	case p.rowNames && (strings.EqualFold(parts[0].text, "new") || strings.EqualFold(parts[0].text, "old")):
		p.out.put(strings.ToUpper(parts[0].text))
		p.out.join("." + p.d.Quote(p.folded(parts[1])))
	case p.declared[strings.ToLower(parts[0].text)]: // a variable that is a row
		p.out.put(p.d.Quote(p.folded(parts[0])))
		p.out.join("." + p.d.Quote(p.folded(parts[1])))
	default:
		p.out.putTable(p.folded(parts[0]))
		p.out.join("." + p.d.Quote(p.folded(parts[1])))
	}
}

// qualifiedCall reads the call of a function whose schema is named: of the database itself, or of the engine.
func (p *parser) qualifiedCall(schema, name token) {
	lower := strings.ToLower(name.text)
	if schema.word == "pg_catalog" {
		p.mayCall(lower, p.d.functions[lower] || p.scope != inTable && p.d.inQueries[lower])
		p.out.put(lower)
	} else {
		p.mayCall(lower, p.engines[lower] || p.scope != inTable && p.routines[lower])
		if p.engines[lower] {
			p.out.put(p.d.Quote(lower))
		} else {
			p.out.putTable(p.folded(name))
		}
	}
	p.arguments(lower)
	p.behindCall()
}

// typeNames are the types there are, with whether values are numbers (n), text (t) or neither (o).
var typeNames = func() map[string]byte {
	names := map[string]byte{}
	for kind, list := range map[byte]string{
		'n': "bit tinyint smallint mediumint int integer bigint decimal dec numeric fixed float double real year bool boolean signed unsigned",
		't': "char varchar character tinytext text mediumtext longtext enum set json nchar nvarchar national varcharacter",
		'o': "date datetime time timestamp binary varbinary tinyblob blob mediumblob longblob uuid inet4 inet6 geometry point linestring " +
			"polygon multipoint " +
			"multilinestring multipolygon geometrycollection",
	} {
		for w := range words(list) {
			names[w] = kind
		}
	}
	return names
}()

// dataType reads a type with its length, or its values, and writes it. It returns its name in small letters.
func (p *parser) dataType() string {
	t := p.next()
	if t.kind != tokenWord || typeNames[t.word] == 0 {
		p.fail("the type %s is not known", t)
		return ""
	}
	p.out.put(t.word)
	switch t.word {
	case "double":
		p.copy("precision")
	case "national", "character", "char", "nchar":
		_ = p.copy("varying") || t.word == "national" && p.copyOne("char", "character", "varchar")
	case "signed", "unsigned":
		p.copyOne("integer", "int")
	}
	if p.isMark("(") {
		p.openTight()
		p.list(func() {
			if p.peek().kind == tokenString || p.peek().kind == tokenBytes {
				p.operand()
			} else {
				p.copyNumber()
			}
		})
		p.mustMark(")")
	}
	for p.copyOne("unsigned", "signed", "zerofill", "binary", "ascii", "unicode") {
	}
	return t.word
}
