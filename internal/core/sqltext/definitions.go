package sqltext

import (
	"bytes"
	"fmt"
)

// Definitions are what the scripts of a release define.
type Definitions struct {
	Dialect  *Dialect // nil for MySQL
	Tables   []*Definition
	Foreign  []ForeignKey
	Programs []*Program
}

// sessionVariables may be set in the scripts of a release, for those who load them by hand. They are read and not used:
// whoever loads a release sets what loading needs.
var sessionVariables = words("sql_mode foreign_key_checks unique_checks time_zone")

// ReadDefinitions reads schema.sql or after.sql of a release and adds what it defines. Every statement is parsed to its last
// token; what is not understood is ErrSyntax.
func (d *Definitions) Read(script []byte) error {
	if d.Dialect != nil && d.Dialect != MySQL {
		return d.readPlain(script)
	}
	sc := NewScript(bytes.NewReader(script))
	for sc.Next() {
		if sc.Insertion() != nil {
			return fmt.Errorf("%w: it holds rows, which have no place among definitions", ErrSyntax)
		}
		if err := d.add(bytes.Clone(sc.Statement())); err != nil {
			return err
		}
	}
	return sc.Err()
}

// readPlain is Read for dialects other than MySQL.
func (d *Definitions) readPlain(script []byte) error {
	sc := d.Dialect.NewScanner(bytes.NewReader(script), maxDefinition)
	for sc.Scan() {
		stmt := bytes.Clone(sc.Statement())
		p := newParserOf(d.Dialect, stmt, inTable)
		switch {
		case p.skip("set"):
			if name := p.next(); !plainSettings[name.word] || !p.skipMark("=") && !p.skip("to") {
				p.fail("the setting %s has no place in a release", name)
			}
			p.next()
			if err := p.end(); err != nil {
				return err
			}
		case p.skip("pragma", "foreign_keys"):
			if p.skipMark("="); !p.skip("off") && !p.skip("on") {
				p.fail("%s is not understood here", p.peek())
			}
			if err := p.end(); err != nil {
				return err
			}
		case p.is("create", "table"):
			t, err := d.Dialect.ParseDefinition(stmt, d.Programs...)
			if err != nil {
				return err
			}
			d.Tables = append(d.Tables, t)
			d.Foreign = append(d.Foreign, t.Constraints...)
		case p.is("create", "index"), p.is("create", "unique", "index"):
			if err := d.addIndex(stmt); err != nil {
				return err
			}
		case p.is("create"):
			if d.Dialect == SQLite && p.is("create", "trigger") {
				stmt = wholeTrigger(sc, stmt)
			}
			g, err := d.Dialect.ParseProgram(stmt, "", d.Programs)
			if err != nil {
				return err
			}
			d.Programs = append(d.Programs, g)
		case p.is("select"):
			table, column, next := p.setCounter()
			if err := p.end(); err != nil {
				return err
			}
			for _, t := range d.Tables {
				if t.Table == table {
					t.SetCounter(column, next)
				}
			}
		case p.skip("alter", "table"):
			if err := d.addForeign(p); err != nil {
				return err
			}
		default:
			return fmt.Errorf("%w: the statement %.60q defines nothing", ErrSyntax, stmt)
		}
	}
	return sc.Err()
}

// wholeTrigger returns a trigger of SQLite with the statements in it, of which the scanner has found the first.
func wholeTrigger(sc *Scanner, stmt []byte) []byte {
	for sc.Scan() && len(stmt) < maxDefinition {
		stmt = append(append(stmt, "; "...), sc.Statement()...)
		if bytes.EqualFold(sc.Statement(), []byte("end")) {
			break
		}
	}
	return stmt
}

// maxDefinition bounds one statement among definitions.
const maxDefinition = 4 << 20

// plainSettings may be set in the scripts of a release of other dialects.
var plainSettings = words("client_encoding standard_conforming_strings timezone")

func (d *Definitions) addIndex(stmt []byte) error {
	p := newParserOf(d.Dialect, stmt, inTable)
	p.skip("create")
	table := p.index()
	if err := p.end(); err != nil {
		return err
	}
	for _, t := range d.Tables {
		if t.Table == table {
			t.indexes = append(t.indexes, p.out)
			return nil
		}
	}
	return fmt.Errorf("%w: an index of table %s, which the release does not make", ErrSyntax, table)
}

// addForeign reads the rest of ALTER TABLE … ADD CONSTRAINT … FOREIGN KEY.
func (d *Definitions) addForeign(p *parser) error {
	p.skip("only")
	table := p.anyDatabase()
	if !p.skip("add") {
		p.fail("%s is not understood here", p.peek())
	}
	name := ""
	if p.skip("constraint") {
		name = p.name()
	}
	f := p.foreignKey(table, name)
	p.deferrable()
	f.dialect = p.d
	if err := p.end(); err != nil {
		return err
	}
	d.Foreign = append(d.Foreign, f)
	return nil
}

func (d *Definitions) add(stmt []byte) error {
	p := newParser(stmt, inTable)
	switch {
	case p.skip("set", "names"):
		p.plainWord()
		return p.end()
	case p.is("set"):
		return p.sessionSettings()
	case p.is("create", "table"):
		t, err := ParseDefinition(stmt)
		if err != nil {
			return err
		}
		d.Tables = append(d.Tables, t)
		d.Foreign = append(d.Foreign, t.Constraints...)
	case p.is("alter"):
		keys, err := ParseForeignKeys(stmt)
		if err != nil {
			return err
		}
		d.Foreign = append(d.Foreign, keys...)
	case p.is("create"):
		g, err := MySQL.ParseProgram(stmt, "", d.Programs)
		if err != nil {
			return err
		}
		d.Programs = append(d.Programs, g)
	default:
		return fmt.Errorf("%w: the statement %.60q defines nothing", ErrSyntax, stmt)
	}
	return nil
}

// sessionSettings reads SET with settings that are known and harmless.
func (p *parser) sessionSettings() error {
	p.skip("set")
	p.list(func() {
		p.skip("session")
		if t := p.next(); !sessionVariables[t.word] {
			p.fail("the setting %s has no place in a release", t)
		}
		if !p.skipMark("=") {
			p.fail("%s stands where = should be", p.peek())
		}
		if t := p.next(); t.kind != tokenString && t.kind != tokenNumber {
			p.fail("%s is not a plain value", t)
		}
	})
	return p.end()
}
