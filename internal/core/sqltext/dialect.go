package sqltext

import (
	"bytes"
	"encoding/hex"
	"strings"
	"unicode/utf8"
)

// Dialect is how the SQL of one engine is written. What a release holds is in the dialect of the engine that it came from, so that the
// engine's own client restores it by hand. Rows are handed out in one form for all: see Insert.
type Dialect struct {
	name string
	// quote stands around identifiers, and escapes says that a backslash in a plain string begins an escape.
	quote   byte
	escapes bool

	head, tail string          // of schema.sql and after.sql
	client     string          // what restores a release by hand, with NAME for the database
	functions  map[string]bool // that definitions may call
	inQueries  map[string]bool // that views and programs may call besides
	niladic    map[string]bool
}

// The dialects there are.
var (
	// MySQL is that of MariaDB and MySQL with backslash escapes on (no NO_BACKSLASH_ESCAPES), as their reference manuals describe under
	// "String Literals" and "Comments".
	MySQL = &Dialect{name: "mysql", quote: '`', escapes: true, client: "mariadb NAME",
		functions: functions, inQueries: queryFunctions, niladic: niladic,
		head: "SET NAMES utf8mb4;\nSET SESSION sql_mode = 'NO_AUTO_VALUE_ON_ZERO';\n" +
			"SET SESSION foreign_key_checks = 0, SESSION unique_checks = 0, SESSION time_zone = '+00:00';\n",
		tail: "SET SESSION foreign_key_checks = 1, SESSION unique_checks = 1;\n"}

	// Postgres is that of PostgreSQL with standard_conforming_strings on (PostgreSQL manual, 4.1 "Lexical Structure"). Text is
	// written with the escapes of E'…', bytes as '\x…'.
	Postgres = &Dialect{name: "postgres", quote: '"', client: "psql NAME",
		functions: pgFunctions, inQueries: pgQueryFunctions, niladic: pgNiladic,
		head: "SET client_encoding = 'UTF8';\nSET standard_conforming_strings = on;\nSET TimeZone = 'UTC';\n"}

	// SQLite is that of SQLite 3 (SQLite documentation, "SQL As Understood By SQLite"): no escapes but the doubled quote, bytes as X'…'.
	SQLite = &Dialect{name: "sqlite", quote: '"', client: "sqlite3 NAME",
		functions: liteFunctions, inQueries: liteQueryFunctions, niladic: liteNiladic,
		head: "PRAGMA foreign_keys = OFF;\n"}
)

// DialectOf returns the dialect of an engine, by its name or the scheme of its addresses. What is not known is read as MySQL.
func DialectOf(engine string) *Dialect {
	switch strings.ToLower(engine) {
	case "postgresql", "postgres":
		return Postgres
	case "sqlite":
		return SQLite
	}
	return MySQL
}

// Head is what schema.sql begins with, Tail what after.sql ends with: for those who restore a release by hand.
func (d *Dialect) Head() string { return d.head }

// Tail is described at Head.
func (d *Dialect) Tail() string { return d.tail }

// Client is the command that restores a release by hand into a database called NAME.
func (d *Dialect) Client() string { return d.client }

// Quote returns an identifier.
func (d *Dialect) Quote(name string) string {
	q := string(d.quote)
	return q + strings.ReplaceAll(name, q, q+q) + q
}

// pgEscapes maps a byte to the letter that follows the backslash in E'…'. There is no NUL in PostgreSQL's texts.
var pgEscapes = [256]byte{'\n': 'n', '\r': 'r', '\'': '\'', '\\': '\\'}

// AppendText appends a text as a literal. Bytes that are not a text of the engine are appended as bytes: a row must come back byte for
// byte even where the source holds what its own character set forbids.
func (d *Dialect) AppendText(dst, b []byte) []byte {
	switch d {
	case Postgres:
		return append(AppendEscaped(append(dst, "E'"...), b, &pgEscapes), '\'')
	case SQLite:
		if !utf8.Valid(b) || bytes.IndexByte(b, 0) >= 0 {
			return d.AppendBinary(dst, b)
		}
		return append(append(append(dst, '\''), bytes.ReplaceAll(b, []byte("'"), []byte("''"))...), '\'')
	}
	return AppendText(dst, b)
}

// AppendBinary appends bytes as a literal.
func (d *Dialect) AppendBinary(dst, b []byte) []byte {
	switch d {
	case Postgres:
		return append(hex.AppendEncode(append(dst, `'\x`...), b), '\'')
	case SQLite:
		return append(hex.AppendEncode(append(dst, "X'"...), b), '\'')
	}
	return AppendBinary(dst, b)
}

// String returns a text as a literal.
func (d *Dialect) String(s string) string { return string(d.AppendText(nil, []byte(s))) }

// normal brings a literal of a row into the form that all rows have: that of MySQL. What it makes lies in buf.
// With texts, strings are texts also where they look like bytes, as in scripts that are not ours.
func (d *Dialect) normal(lit Literal, buf *[]byte, texts bool) (Literal, error) {
	at := len(*buf)
	switch {
	case d == Postgres && bytes.EqualFold(lit, []byte("true")):
		return Literal("'t'"), nil
	case d == Postgres && bytes.EqualFold(lit, []byte("false")):
		return Literal("'f'"), nil
	case d == Postgres && len(lit) > 2 && lit[0]|0x20 == 'b' && lit[1] == '\'': // a string of bits is written as it is kept
		return lit[1:], nil
	case d == Postgres && len(lit) > 2 && lit[0] == 'E' && lit[1] == '\'':
		return lit[1:], nil
	case d == Postgres && !texts && bytes.HasPrefix(lit, []byte(`'\x`)):
		b, err := appendHex(nil, lit[3:len(lit)-1])
		*buf = AppendBinary(*buf, b)
		return Literal((*buf)[at:]), err
	case d == SQLite && len(lit) > 2 && lit[0]|0x20 == 'x' && lit[1] == '\'':
		b, err := appendHex(nil, lit[2:len(lit)-1])
		*buf = AppendBinary(*buf, b)
		return Literal((*buf)[at:]), err
	case !d.escapes && len(lit) > 1 && lit[0] == '\'' && bytes.IndexByte(lit, '\\') >= 0:
		*buf = append(*buf, bytes.ReplaceAll(lit, []byte(`\`), []byte(`\\`))...)
		return Literal((*buf)[at:]), nil
	}
	return lit, nil
}
