package sqltext

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Definition is a table as a CREATE TABLE statement defines it, taken apart to the last token. Text writes it again, with
// nothing in it but what a table needs.
type Definition struct {
	Table       string
	Columns     []ColumnDefinition
	PrimaryKey  []string
	Constraints []ForeignKey // for after the rows
	Charset     string       // of columns that name none
	Collate     string
	Engine      string   // in small letters
	Notes       []string // what was left away, as sentences
	items       []string // keys and checks
	dialect     *Dialect // nil for MySQL
	lines       []*text  // of dialects other than MySQL: constraints
	indexes     []*text  // of those: statements that come behind
	options     []string
	counter     string // the next automatic number
}

// ColumnDefinition is one column.
type ColumnDefinition struct {
	Name      string
	Type      string // small letters, without length
	Charset   string // "" for columns that are not text
	Generated bool
	Invisible bool
	text      string
	line      *text  // instead of text, where tables are named in it
	counted   bool   // it gets automatic numbers
	next      string // the next of them, where it is known
}

// ForeignKey is a constraint that names another table.
type ForeignKey struct {
	Table string // that it is of
	Name  string // "" for one without
	text  *text

	dialect *Dialect // nil for MySQL
}

// Text returns the statement that adds the constraint, with names of tables passed through rename unless that is nil. The
// constraint's own name goes with them, as names of constraints are a database's.
func (f ForeignKey) Text(rename func(string) string) string {
	if rename == nil {
		rename = func(s string) string { return s }
	}
	d := f.dialect
	if d == nil {
		d = MySQL
	}
	out := "ALTER TABLE " + d.Quote(rename(f.Table)) + " ADD "
	if f.Name != "" {
		out += "CONSTRAINT " + d.Quote(rename(f.Name)) + " "
	}
	return out + f.text.render(rename)
}

// Numeric reports whether a type's values are written without quotes.
func (c ColumnDefinition) Numeric() bool {
	return typeNames[c.Type] == 'n' && c.Type != "bit" || c.Type == "year"
}

// Text returns the statement that makes the table, without foreign keys, with its name passed through rename unless that is
// nil.
func (d *Definition) Text(rename func(string) string) string {
	if d.dialect != nil {
		return strings.Join(d.Statements(rename), ";\n")
	}
	name := d.Table
	if rename != nil {
		name = rename(name)
	}
	lines := make([]string, 0, len(d.Columns)+len(d.items))
	for _, c := range d.Columns {
		lines = append(lines, c.text)
	}
	lines = append(lines, d.items...)
	options := slices.Clone(d.options)
	if d.counter != "" {
		options = append(options, "AUTO_INCREMENT="+d.counter)
	}
	if d.Charset != "" {
		options = append(options, "DEFAULT CHARSET="+d.Charset)
	}
	if d.Collate != "" {
		options = append(options, "COLLATE="+d.Collate)
	}
	return "CREATE TABLE " + Quote(name) + " (\n  " + strings.Join(lines, ",\n  ") + "\n) " + strings.Join(options, " ")
}

// ParseDefinition takes a CREATE TABLE statement of the dialect apart.
func (di *Dialect) ParseDefinition(stmt []byte, made ...*Program) (*Definition, error) {
	if di == MySQL {
		return ParseDefinition(stmt)
	}
	p := newParserOf(di, stmt, inTable)
	p.know(made)
	if !p.skip("create", "table") {
		p.fail("it is not a table")
	}
	p.skip("if", "not", "exists")
	d := &Definition{Table: p.anyDatabase(), dialect: di}
	if di == Postgres {
		d.pgTable(p)
	} else {
		d.liteTable(p)
	}
	if p.err == nil && len(d.Columns) == 0 {
		p.fail("it has no columns")
	}
	if err := p.end(); err != nil {
		return nil, fmt.Errorf("table %s: %w", d.Table, err)
	}
	return d, nil
}

// engines whose tables are taken over as they are; others are refused, as some of them reach out of the database.
var engines = map[string]string{"innodb": "InnoDB", "myisam": "MyISAM", "aria": "Aria", "memory": "MEMORY", "rocksdb": "ROCKSDB",
	"archive": "ARCHIVE"}

// tableOptions are the options of CREATE TABLE that are kept, by name; false for those that are left away.
var tableOptions = map[string]bool{
	"row_format": true, "comment": true, "key_block_size": true, "max_rows": true, "min_rows": true, "avg_row_length": true,
	"checksum": false, "delay_key_write": false, "pack_keys": false, "stats_persistent": false, "stats_auto_recalc": false,
	"stats_sample_pages": false,
	"page_checksum":      false, "transactional": false, "page_compressed": false, "page_compression_level": false, "encrypted": false,
	"encryption_key_id": false,
	"compression":       false, "encryption": false, "insert_method": false, "ietf_quotes": false,
}

// collations that only one family of servers knows, and what comes nearest on all.
var collations = map[string]string{
	"utf8mb4_0900_ai_ci": "utf8mb4_unicode_520_ci", "utf8mb4_0900_as_ci": "utf8mb4_unicode_520_ci", "utf8mb4_0900_as_cs": "utf8mb4_bin",
	"utf8mb4_0900_bin":      "utf8mb4_bin",
	"utf8mb4_uca1400_ai_ci": "utf8mb4_unicode_520_ci", "utf8mb3_uca1400_ai_ci": "utf8mb3_unicode_520_ci",
}

// ParseDefinition takes a CREATE TABLE statement apart, comments resolved. What would reach out of the database
// (data in other folders, other servers, queries, functions that are not known to be harmless), and what is not understood
// to its last token, is ErrSyntax with the reason.
func ParseDefinition(stmt []byte) (*Definition, error) {
	p := newParser(stmt, inTable)
	p.must("create")
	p.skip("temporary")
	p.must("table")
	p.skip("if", "not", "exists")
	d := &Definition{Table: p.anyDatabase()}
	wrap := func(err error) error { return fmt.Errorf("table %s: %w", d.Table, err) }
	if !p.skipMark("(") {
		p.fail("it is not made of columns, %s comes first", p.peek())
	}
	// The options come last and say in which character set columns are that name none.
	if err := d.readOptions(p); err != nil {
		return nil, wrap(err)
	}
	for p.err == nil {
		d.item(p)
		if !p.skipMark(",") {
			break
		}
	}
	if !p.skipMark(")") {
		p.fail("%s is not understood here", p.peek())
	}
	if p.err == nil && len(d.Columns) == 0 {
		p.fail("it has no columns")
	}
	if p.err != nil {
		return nil, wrap(p.err)
	}
	return d, nil
}

// anyDatabase reads the name of a table that is made: what database it was in does not matter.
func (p *parser) anyDatabase() string {
	n := p.name()
	if p.skipMark(".") {
		n = p.name()
	}
	return n
}

// readOptions reads what follows the brackets that the columns are in, and leaves the parser in front of those.
func (d *Definition) readOptions(p *parser) error {
	depth, end := 1, p.at
	for ; end < len(p.tokens); end++ {
		if t := p.tokens[end]; t.kind == tokenMark {
			if t.text == "(" {
				depth++
			} else if t.text == ")" {
				if depth--; depth == 0 {
					break
				}
			}
		}
	}
	if p.err != nil || end == len(p.tokens) {
		p.fail("a bracket is not closed")
		return p.err
	}
	o := &parser{tokens: p.tokens[end+1:], out: &text{}, scope: inTable}
	for o.err == nil && o.peek().kind != tokenEnd {
		if !o.skipMark(",") {
			d.option(o)
		}
	}
	if to := collations[d.Collate]; to != "" {
		d.Notes = append(d.Notes, fmt.Sprintf("table %s: the collation %s became %s, which all servers know", d.Table, d.Collate, to))
		d.Collate = to
	}
	if d.Charset == "" && d.Collate != "" {
		d.Charset, _, _ = strings.Cut(d.Collate, "_")
	}
	p.tokens = p.tokens[:end+1]
	return o.err
}

// option reads one option of a table.
func (d *Definition) option(p *parser) {
	if p.is("partition") {
		p.partitions()
		d.Notes = append(d.Notes, "table "+d.Table+" was in partitions; it is one table now")
		return
	}
	p.skip("default")
	name := p.next()
	if name.kind != tokenWord {
		p.fail("%s in the options of the table is not understood", name)
		return
	}
	word := name.word
	if word == "character" && p.skip("set") {
		word = "charset"
	}
	p.skipMark("=")
	v := p.peek()
	if v.kind == tokenEnd || v.kind == tokenMark {
		p.fail("the option %s has no value", strings.ToUpper(word))
		return
	}
	keep, known := tableOptions[word]
	switch {
	case word == "engine" || word == "type":
		p.next()
		d.Engine = strings.ToLower(v.text)
		if engines[d.Engine] == "" {
			p.fail("the engine %s may reach out of the database", v.text)
		}
		d.options = append(d.options, "ENGINE="+engines[d.Engine])
	case word == "charset":
		d.Charset = strings.ToLower(p.plainWord())
	case word == "collate":
		d.Collate = strings.ToLower(p.plainWord())
	case word == "auto_increment":
		p.next()
		if _, err := strconv.ParseUint(v.text, 10, 64); err != nil || v.kind != tokenNumber {
			p.fail("the option AUTO_INCREMENT is %s", v)
		}
		d.counter = v.text
	case word == "comment" && v.kind == tokenString:
		p.next()
		d.options = append(d.options, "COMMENT="+String(v.text))
	case word == "row_format":
		d.options = append(d.options, "ROW_FORMAT="+strings.ToUpper(p.plainWord()))
	case keep && v.kind == tokenNumber && IsNumber([]byte(v.text)):
		p.next()
		d.options = append(d.options, strings.ToUpper(word)+"="+v.text)
	case keep:
		p.fail("the option %s is %s", strings.ToUpper(word), v)
	case !known:
		p.fail("the option %s is not known to be harmless", strings.ToUpper(word))
	default:
		p.next()
	}
}

// partitions passes over how a table was cut into partitions, to the end.
func (p *parser) partitions() {
	known := words(`partition by linear hash key range list columns algorithm partitions subpartition subpartitions auto system_time
		interval limit current history`)
	for p.err == nil && p.peek().kind != tokenEnd {
		switch t := p.next(); {
		case t.kind == tokenWord && known[t.word], t.kind == tokenNumber, t.kind == tokenMark && t.text == "=", t.kind == tokenWord &&
			units[t.word]:
		case t.kind == tokenMark && t.text == "(":
			for depth := 1; depth > 0; {
				switch t := p.next(); {
				case t.kind == tokenEnd:
					p.fail("a bracket is not closed")
					return
				case t.kind == tokenMark && t.text == "(":
					depth++
				case t.kind == tokenMark && t.text == ")":
					depth--
				}
			}
		default:
			p.fail("%s is not understood behind PARTITION BY", t)
		}
	}
}

// Alter takes the clauses of an ALTER TABLE statement from outside over into the definition: keys, automatic
// numbers and foreign keys, which some dump programs add afterwards. Others are ErrSyntax.
func (d *Definition) Alter(clauses []byte) error {
	p := newParser(clauses, inTable)
	for p.err == nil && p.peek().kind != tokenEnd {
		d.clause(p)
		if !p.skipMark(",") {
			break
		}
	}
	if err := p.end(); err != nil {
		return fmt.Errorf("table %s: %w", d.Table, err)
	}
	return nil
}

func (d *Definition) clause(p *parser) {
	p.out = &text{}
	switch {
	case p.skip("disable", "keys"), p.skip("enable", "keys"):
	case p.skip("auto_increment"):
		p.skipMark("=")
		t := p.next()
		if t.kind != tokenNumber || strings.Trim(t.text, "0123456789") != "" {
			p.fail("AUTO_INCREMENT is %s", t)
		}
		d.counter = t.text
	case p.skip("add"):
		if !p.isOne("primary", "key", "index", "unique", "fulltext", "spatial", "constraint", "foreign") {
			p.fail("adding %s is not taken over", p.peek())
			return
		}
		d.constraint(p)
	case p.isOne("modify", "change"):
		d.redefine(p)
	default:
		p.fail("%s is not taken over", p.peek())
	}
}

// redefine puts a column's new definition in the place of its old one.
func (d *Definition) redefine(p *parser) {
	change := p.skip("change")
	p.skip("modify")
	p.skip("column")
	name := ""
	if change {
		name = p.name()
	} else {
		name = p.peek().text
	}
	at := slices.IndexFunc(d.Columns, func(c ColumnDefinition) bool { return strings.EqualFold(c.Name, name) })
	if at < 0 {
		p.fail("it has no column %s", name)
		return
	}
	if c := d.column(p); p.err == nil {
		d.Columns[at] = c
	}
}

// ParseForeignKeys reads an ALTER TABLE statement that adds foreign keys and does nothing else.
func ParseForeignKeys(stmt []byte) ([]ForeignKey, error) {
	p := newParser(stmt, inTable)
	p.must("alter", "table")
	d := &Definition{Table: p.name()}
	for p.err == nil {
		if !p.skip("add") || !p.isOne("constraint", "foreign") {
			p.fail("%s is not a foreign key", p.peek())
		}
		d.constraint(p)
		if !p.skipMark(",") {
			break
		}
	}
	if err := p.end(); err != nil {
		return nil, fmt.Errorf("table %s: %w", d.Table, err)
	}
	if len(d.items) > 0 {
		return nil, fmt.Errorf("%w: table %s: only foreign keys come after the rows", ErrSyntax, d.Table)
	}
	return d.Constraints, nil
}
