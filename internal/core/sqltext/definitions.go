package sqltext

import (
	"bytes"
	"fmt"
)

// Definitions are what the scripts of a release define.
type Definitions struct {
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
		var routines []string
		for _, g := range d.Programs {
			if g.Type == "function" || g.Type == "procedure" {
				routines = append(routines, g.Name)
			}
		}
		g, err := ParseProgram(stmt, "", routines)
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
