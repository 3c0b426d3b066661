package sqltext

import (
	"bytes"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Definition is what a CREATE TABLE statement from outside says, taken apart so that it can be written anew
// with nothing in it but what a table needs.
type Definition struct {
	Table       string
	Columns     []ColumnDefinition
	PrimaryKey  []string
	Constraints []string // foreign keys, for after the rows
	Charset     string   // of columns that name none
	Engine      string
	Notes       []string // what was left away, as sentences
	items       []string
	options     []string
}

// ColumnDefinition is a column as far as its rows matter.
type ColumnDefinition struct {
	Name      string
	Type      string // small letters, without length
	Charset   string // "" for columns that are not text
	Generated bool
}

// Text returns the statement written anew, without foreign keys.
func (d *Definition) Text() string {
	return "CREATE TABLE " + Quote(d.Table) + " (\n  " + strings.Join(d.items, ",\n  ") + "\n) " + strings.Join(d.options, " ")
}

// Engines whose tables are taken over as they are; others are refused, as some of them reach out of the database.
var engines = []string{"innodb", "myisam", "aria", "memory", "rocksdb", "archive"}

// tableOptions are the options of CREATE TABLE that are kept, by name; false for those that are left away.
var tableOptions = map[string]bool{
	"auto_increment": true, "row_format": true, "comment": true, "key_block_size": true, "max_rows": true, "min_rows": true, "avg_row_length": true,
	"checksum": false, "delay_key_write": false, "pack_keys": false, "stats_persistent": false, "stats_auto_recalc": false, "stats_sample_pages": false,
	"page_checksum": false, "transactional": false, "page_compressed": false, "page_compression_level": false, "encrypted": false, "encryption_key_id": false,
	"compression": false, "encryption": false, "insert_method": false, "ietf_quotes": false,
}

// functions are what defaults, checks and generated columns may call. What is not here might read files, wait,
// or ask other servers.
var functions = words(`abs cast ceil ceiling char char_length coalesce concat concat_ws conv convert crc32 curdate current_date current_time current_timestamp
	curtime date date_add date_format date_sub datediff day dayofmonth elt field floor format from_unixtime greatest hex hour if ifnull inet6_aton inet6_ntoa inet_aton
	inet_ntoa instr json_array json_array_append json_compact json_contains json_exists json_extract json_keys json_length json_object json_query json_quote
	json_type json_unquote json_valid json_value last_day lcase least left length localtime localtimestamp locate lower lpad ltrim md5 minute mod month now nullif octet_length
	point pow quarter regexp_replace regexp_substr repeat replace reverse right round rpad rtrim second sha sha1 sha2 sign st_geomfromtext strcmp str_to_date substr substring
	substring_index time timestamp trim truncate ucase unhex unix_timestamp upper utc_timestamp uuid week weekday year yearweek in and or not values between`)

// typeWords are types and words of keys, which have brackets behind them too.
var typeWords = words(`bit tinyint smallint mediumint int integer bigint decimal dec numeric fixed float double real date datetime timestamp time year char varchar
	binary varbinary tinytext text mediumtext longtext tinyblob blob mediumblob longblob enum set json uuid inet4 inet6 geometry key index unique fulltext spatial primary
	references check as default using btree hash character national varcharacter nchar nvarchar precision on`)

func words(list string) map[string]bool {
	m := map[string]bool{}
	for w := range strings.FieldsSeq(list) {
		m[w] = true
	}
	return m
}

var numericTypes = words("tinyint smallint mediumint int integer bigint decimal dec numeric fixed float double real year bool boolean")
var textTypes = words("char varchar character tinytext text mediumtext longtext enum set json nchar nvarchar national")

// Numeric reports whether a type's values are written without quotes.
func (c ColumnDefinition) Numeric() bool { return numericTypes[c.Type] }

// collations that only one family of servers knows, and what comes nearest on all.
var collations = map[string]string{
	"utf8mb4_0900_ai_ci": "utf8mb4_unicode_520_ci", "utf8mb4_0900_as_ci": "utf8mb4_unicode_520_ci", "utf8mb4_0900_as_cs": "utf8mb4_bin", "utf8mb4_0900_bin": "utf8mb4_bin",
	"utf8mb4_uca1400_ai_ci": "utf8mb4_unicode_520_ci", "utf8mb3_uca1400_ai_ci": "utf8mb3_unicode_520_ci",
}

// ParseDefinition takes a CREATE TABLE statement apart, comments resolved. What would reach out of the database
// (data in other folders, other servers, queries, functions that are not known to be harmless) is ErrSyntax with
// the reason.
func ParseDefinition(stmt []byte) (*Definition, error) {
	p := head{src: stmt}
	p.word("CREATE")
	p.optional("TEMPORARY")
	p.word("TABLE")
	if p.optional("IF") {
		p.word("NOT")
		p.word("EXISTS")
	}
	d := &Definition{Table: p.qualified()}
	if p.err == nil && p.peek() != '(' {
		return nil, fmt.Errorf("%w: table %s is not made of columns: %.40q", ErrSyntax, d.Table, p.src[p.pos:])
	}
	if p.err != nil {
		return nil, p.err
	}
	inside, rest, err := brackets(stmt[p.pos:])
	if err != nil {
		return nil, fmt.Errorf("table %s: %w", d.Table, err)
	}
	if err := d.readOptions(rest); err != nil {
		return nil, fmt.Errorf("table %s: %w", d.Table, err)
	}
	for _, item := range splitTop(inside) {
		if err := d.item(item); err != nil {
			return nil, fmt.Errorf("table %s: %w", d.Table, err)
		}
	}
	if len(d.Columns) == 0 {
		return nil, fmt.Errorf("%w: table %s has no columns", ErrSyntax, d.Table)
	}
	return d, nil
}

// brackets returns what is inside the brackets that src begins with, and what follows them.
func brackets(src []byte) (inside, rest []byte, err error) {
	depth := 0
	for i := 0; i < len(src); {
		switch c := src[i]; c {
		case '\'', '"', '`':
			end := closing(src, i+1, c, c != '`')
			if end < 0 {
				return nil, nil, fmt.Errorf("%w: a quote is not closed", ErrSyntax)
			}
			i = end
			continue
		case '(':
			depth++
		case ')':
			if depth--; depth == 0 {
				return src[1:i], src[i+1:], nil
			}
		}
		i++
	}
	return nil, nil, fmt.Errorf("%w: a bracket is not closed", ErrSyntax)
}

// splitTop splits at commas that are outside quotes and brackets.
func splitTop(src []byte) (parts [][]byte) {
	depth, from := 0, 0
	for i := 0; i < len(src); {
		switch c := src[i]; {
		case c == '\'' || c == '"' || c == '`':
			if end := closing(src, i+1, c, c != '`'); end > 0 {
				i = end
				continue
			}
		case c == '(':
			depth++
		case c == ')':
			depth--
		case c == ',' && depth == 0:
			parts = append(parts, bytes.TrimSpace(src[from:i]))
			from = i + 1
		}
		i++
	}
	return append(parts, bytes.TrimSpace(src[from:]))
}

// lexeme is a word, a quoted thing, or a mark.
type lexeme struct {
	text   string // of words in small letters; of quoted identifiers their name
	sort   byte   // 'w' word, '`' identifier, '\'' string, or the mark itself
	from   int
	to     int
	spaced bool
}

func lexemes(src []byte) (out []lexeme, err error) {
	for i := 0; i < len(src); {
		c := src[i]
		switch {
		case c == ' ' || c == '\n' || c == '\r' || c == '\t':
			i++
		case c == '\'' || c == '"' || c == '`':
			end := closing(src, i+1, c, c != '`')
			if end < 0 {
				return nil, fmt.Errorf("%w: a quote is not closed", ErrSyntax)
			}
			l := lexeme{sort: '\'', from: i, to: end}
			if c == '`' {
				l.sort, l.text = '`', string(bytes.ReplaceAll(src[i+1:end-1], []byte("``"), []byte("`")))
			}
			out = append(out, l)
			i = end
		case identifierByte(c):
			end := i
			for end < len(src) && identifierByte(src[end]) {
				end++
			}
			out = append(out, lexeme{text: strings.ToLower(string(src[i:end])), sort: 'w', from: i, to: end})
			i = end
		default:
			out = append(out, lexeme{text: string(c), sort: c, from: i, to: i + 1})
			i++
		}
	}
	return out, nil
}

// harmless refuses calls of functions that are not known, session variables, and queries.
func harmless(l []lexeme) error {
	depth := 0
	for i, x := range l {
		switch x.sort {
		case '(':
			depth++
		case ')':
			if depth--; depth < 0 {
				return fmt.Errorf("%w: a bracket too many", ErrSyntax)
			}
		}
		switch {
		case x.sort == '@' || x.sort == ';':
			return fmt.Errorf("%w: %q has no place in the definition of a table", ErrSyntax, x.text)
		case x.sort == 'w' && (x.text == "select" || x.text == "connection" || x.text == "union"):
			return fmt.Errorf("%w: %s has no place in the definition of a table", ErrSyntax, strings.ToUpper(x.text))
		case x.sort == 'w' && i+1 < len(l) && l[i+1].sort == '(' && !functions[x.text] && !typeWords[x.text] && !(i > 0 && (l[i-1].text == "key" || l[i-1].text == "index" || l[i-1].text == "references")):
			return fmt.Errorf("%w: the function %s is not known to be harmless", ErrSyntax, x.text)
		case x.sort == '`' && i+1 < len(l) && l[i+1].sort == '(' && i == 0:
			return fmt.Errorf("%w: %q is called like a function", ErrSyntax, x.text)
		}
	}
	if depth != 0 {
		return fmt.Errorf("%w: a bracket is not closed", ErrSyntax)
	}
	return nil
}

// item reads one column, key or constraint.
func (d *Definition) item(src []byte) error {
	l, err := lexemes(src)
	if err != nil || len(l) == 0 {
		return err
	}
	if err := harmless(l); err != nil {
		return err
	}
	first := l[0]
	if first.sort == 'w' {
		switch first.text {
		case "constraint", "foreign":
			if slices.ContainsFunc(l, func(x lexeme) bool { return x.sort == 'w' && x.text == "foreign" }) {
				d.Constraints = append(d.Constraints, string(src))
				return nil
			}
			if slices.ContainsFunc(l, func(x lexeme) bool { return x.sort == 'w' && x.text == "primary" }) {
				d.PrimaryKey = keyColumns(src, l)
			}
			d.items = append(d.items, string(src))
			return nil
		case "primary":
			d.PrimaryKey = keyColumns(src, l)
			d.items = append(d.items, string(src))
			return nil
		case "unique", "key", "index", "fulltext", "spatial", "check":
			d.items = append(d.items, string(src))
			return nil
		case "period":
			return fmt.Errorf("%w: tables with system versioning are not taken over", ErrSyntax)
		}
	}
	return d.column(src, l)
}

// keyColumns returns the columns of a key: the names in its brackets, without lengths.
func keyColumns(src []byte, l []lexeme) (names []string) {
	depth := 0
	for _, x := range l {
		switch {
		case x.sort == '(':
			depth++
		case x.sort == ')':
			depth--
		case depth == 1 && x.sort == '`':
			names = append(names, x.text)
		case depth == 1 && x.sort == 'w' && x.text != "asc" && x.text != "desc":
			names = append(names, string(src[x.from:x.to]))
		}
	}
	return names
}

func (d *Definition) column(src []byte, l []lexeme) error {
	if len(l) < 2 || l[0].sort != '`' && l[0].sort != 'w' || l[1].sort != 'w' {
		return fmt.Errorf("%w: %.40q is not a column", ErrSyntax, src)
	}
	c := ColumnDefinition{Name: l[0].text, Type: l[1].text}
	if l[0].sort == 'w' {
		c.Name = string(src[l[0].from:l[0].to])
	}
	if !typeWords[c.Type] && !numericTypes[c.Type] {
		return fmt.Errorf("%w: column %s has the type %s, which is not known", ErrSyntax, c.Name, c.Type)
	}
	if textTypes[c.Type] {
		c.Charset = d.Charset
	}
	out := []byte(nil)
	done := 0
	for i, x := range l {
		if x.sort != 'w' || i < 2 {
			continue
		}
		next := func(n int) lexeme {
			if i+n < len(l) {
				return l[i+n]
			}
			return lexeme{}
		}
		switch x.text {
		case "charset":
			c.Charset = next(1).text
		case "character":
			if next(1).text == "set" {
				c.Charset = next(2).text
			}
		case "collate":
			set, _, _ := strings.Cut(next(1).text, "_")
			c.Charset = set
			if to := collations[next(1).text]; to != "" {
				out = append(append(out, src[done:next(1).from]...), to...)
				done = next(1).to
			}
		case "generated", "as":
			c.Generated = true
		case "primary":
			d.PrimaryKey = []string{c.Name}
		case "invisible", "compressed", "references", "storage", "column_format":
			return fmt.Errorf("%w: column %s: %s is not taken over", ErrSyntax, c.Name, strings.ToUpper(x.text))
		}
	}
	if !textTypes[c.Type] {
		c.Charset = ""
	}
	d.Columns = append(d.Columns, c)
	d.items = append(d.items, string(append(out, src[done:]...)))
	return nil
}

// readOptions reads what follows the columns.
func (d *Definition) readOptions(src []byte) error {
	l, err := lexemes(src)
	if err != nil {
		return err
	}
	collate := ""
	for i := 0; i < len(l); {
		x := l[i]
		i++
		if x.sort == ',' {
			continue
		}
		if x.sort != 'w' {
			return fmt.Errorf("%w: %.30q in the options of the table", ErrSyntax, src[x.from:])
		}
		name := x.text
		if name == "partition" {
			d.Notes = append(d.Notes, "table "+d.Table+" was in partitions; it is one table now")
			break
		}
		if name == "default" && i < len(l) {
			name = l[i].text
			i++
		}
		if name == "character" && i < len(l) && l[i].text == "set" {
			name = "charset"
			i++
		}
		if i < len(l) && l[i].sort == '=' {
			i++
		}
		if i >= len(l) {
			return fmt.Errorf("%w: the option %s has no value", ErrSyntax, name)
		}
		v := l[i]
		raw := string(src[v.from:v.to])
		i++
		keep, known := tableOptions[name]
		switch {
		case name == "engine" || name == "type":
			d.Engine = strings.Trim(strings.ToLower(raw), "'\"`")
			if !slices.Contains(engines, d.Engine) {
				return fmt.Errorf("%w: the engine %s may reach out of the database", ErrSyntax, raw)
			}
			d.options = append(d.options, "ENGINE="+engineName(d.Engine))
		case name == "charset":
			d.Charset = strings.Trim(v.text, "'\"")
		case name == "collate":
			collate = strings.Trim(v.text, "'\"")
		case keep:
			if v.sort == 'w' && name != "row_format" {
				if _, err := strconv.ParseUint(v.text, 10, 64); err != nil {
					return fmt.Errorf("%w: the option %s is %s", ErrSyntax, name, raw)
				}
			}
			d.options = append(d.options, strings.ToUpper(name)+"="+raw)
		case !known:
			return fmt.Errorf("%w: the option %s is not known to be harmless", ErrSyntax, strings.ToUpper(name))
		}
	}
	if to := collations[collate]; to != "" {
		d.Notes = append(d.Notes, fmt.Sprintf("table %s: the collation %s became %s, which all servers know", d.Table, collate, to))
		collate = to
	}
	if d.Charset == "" && collate != "" {
		d.Charset, _, _ = strings.Cut(collate, "_")
	}
	for _, w := range []string{d.Charset, collate} {
		if !plainName(w) {
			return fmt.Errorf("%w: the character set %q", ErrSyntax, w)
		}
	}
	if d.Charset != "" {
		d.options = append(d.options, "DEFAULT CHARSET="+d.Charset)
	}
	if collate != "" {
		d.options = append(d.options, "COLLATE="+collate)
	}
	return nil
}

func engineName(lower string) string {
	for _, n := range []string{"InnoDB", "MyISAM", "Aria", "MEMORY", "ROCKSDB", "ARCHIVE"} {
		if strings.EqualFold(n, lower) {
			return n
		}
	}
	return lower
}

func plainName(s string) bool {
	for i := range len(s) {
		if !identifierByte(s[i]) || s[i] >= 0x80 {
			return false
		}
	}
	return true
}

// Alter takes the clauses of an ALTER TABLE statement from outside over into the definition: keys, automatic
// numbers and foreign keys, which some dump programs add afterwards. Others are ErrSyntax.
func (d *Definition) Alter(clauses []byte) error {
	for _, clause := range splitTop(clauses) {
		l, err := lexemes(clause)
		if err != nil {
			return err
		}
		if len(l) == 0 {
			continue
		}
		if err := harmless(l); err != nil {
			return fmt.Errorf("table %s: %w", d.Table, err)
		}
		word := func(i int) string {
			if i < len(l) {
				return l[i].text
			}
			return ""
		}
		has := func(w string) bool {
			return slices.ContainsFunc(l, func(x lexeme) bool { return x.sort == 'w' && x.text == w })
		}
		switch {
		case (word(0) == "disable" || word(0) == "enable") && word(1) == "keys":
		case word(0) == "add" && has("foreign"):
			d.Constraints = append(d.Constraints, string(clause[l[1].from:]))
		case word(0) == "add" && slices.Contains([]string{"primary", "key", "index", "unique", "fulltext", "spatial", "constraint"}, word(1)):
			if has("primary") {
				d.PrimaryKey = keyColumns(clause, l)
			}
			d.items = append(d.items, string(clause[l[1].from:]))
		case word(0) == "modify" || word(0) == "change":
			at := 1
			if word(at) == "column" {
				at++
			}
			if word(0) == "change" {
				at++
			}
			if err := d.redefine(clause[l[min(at, len(l)-1)].from:]); err != nil {
				return err
			}
		case word(0) == "auto_increment":
			if i := slices.IndexFunc(l, func(x lexeme) bool { return x.sort == 'w' && x.text[0] >= '0' && x.text[0] <= '9' }); i > 0 {
				d.options = append(d.options, "AUTO_INCREMENT="+l[i].text)
			}
		default:
			return fmt.Errorf("%w: table %s: %.60q is not taken over", ErrSyntax, d.Table, clause)
		}
	}
	return nil
}

// redefine puts a column's new definition in the place of its old one.
func (d *Definition) redefine(src []byte) error {
	fresh := &Definition{Table: d.Table, Charset: d.Charset}
	if err := fresh.item(src); err != nil || len(fresh.Columns) != 1 {
		return fmt.Errorf("%w: table %s: %.60q", ErrSyntax, d.Table, src)
	}
	at := slices.IndexFunc(d.Columns, func(c ColumnDefinition) bool { return strings.EqualFold(c.Name, fresh.Columns[0].Name) })
	if at < 0 {
		return fmt.Errorf("%w: table %s has no column %s", ErrSyntax, d.Table, fresh.Columns[0].Name)
	}
	for i, item := range d.items {
		l, err := lexemes([]byte(item))
		if err == nil && len(l) > 1 && (l[0].sort == '`' || l[0].sort == 'w') && strings.EqualFold(l[0].text, d.Columns[at].Name) {
			d.items[i] = fresh.items[0]
			d.Columns[at] = fresh.Columns[0]
			return nil
		}
	}
	return nil
}
