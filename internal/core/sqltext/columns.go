package sqltext

import (
	"fmt"
	"strings"
)

// item reads one column, key or constraint.
func (d *Definition) item(p *parser) {
	p.out = &text{}
	switch t := p.peek(); {
	case t.kind == tokenWord && p.isOne("constraint", "foreign", "primary", "unique", "key", "index", "fulltext", "spatial", "check"):
		d.constraint(p)
	case p.is("period", "for"):
		p.fail("tables with system versioning are not taken over")
	default:
		c := d.column(p)
		d.Columns = append(d.Columns, c)
	}
}

// constraint reads a key, a check or a foreign key.
func (d *Definition) constraint(p *parser) {
	name := ""
	if p.skip("constraint") && !p.isOne("primary", "unique", "foreign", "check") {
		name = p.name()
	}
	named := func() {
		if name != "" {
			p.out.put("CONSTRAINT " + Quote(name))
		}
	}
	switch {
	case p.is("foreign"):
		d.Constraints = append(d.Constraints, p.foreignKey(d.Table, name))
		return
	case p.is("check"):
		named()
		p.check()
	case p.copy("primary", "key"):
		p.keyOptions()
		d.PrimaryKey = p.keyParts()
		p.keyOptions()
	case p.copyOne("unique", "fulltext", "spatial"), p.isOne("key", "index"):
		p.copyOne("key", "index")
		if n := p.peek(); (n.kind == tokenName || n.kind == tokenWord && n.word != "using") && !p.isMark("(") {
			p.copyName()
		} else if name != "" {
			p.out.put(Quote(name))
		}
		p.keyOptions()
		p.keyParts()
		p.keyOptions()
	default:
		p.fail("%s is not understood here", p.peek())
	}
	d.items = append(d.items, p.out.render(nil))
}

func (p *parser) check() {
	p.must("check")
	p.bracketed()
	if p.skip("not", "enforced") {
		p.fail("checks that are not enforced are not taken over")
	}
	p.skip("enforced")
}

// foreignKey reads FOREIGN KEY and what follows.
func (p *parser) foreignKey(table, name string) ForeignKey {
	p.fresh()
	p.must("foreign", "key")
	if !p.isMark("(") {
		p.name() // of the key; the server gives it one
	}
	p.names()
	p.must("references")
	p.copyTable()
	p.names()
	for p.err == nil {
		switch {
		case p.skip("match"):
			p.next()
		case p.copy("on"):
			if !p.copyOne("delete", "update") {
				p.fail("%s is not understood behind ON", p.peek())
			}
			if !p.copyOne("cascade", "restrict") && !p.copy("set", "null") && !p.copy("no", "action") && !p.copy("set", "default") {
				p.fail("%s is not understood behind ON", p.peek())
			}
		default:
			return ForeignKey{Table: table, Name: name, text: p.out}
		}
	}
	return ForeignKey{}
}

// keyParts reads the columns of a key, and returns those that are named, without lengths.
func (p *parser) keyParts() (names []string) {
	p.mustMark("(")
	p.list(func() {
		if p.isMark("(") {
			p.bracketed()
		} else {
			names = append(names, p.copyName())
			if p.isMark("(") {
				p.openTight()
				p.copyNumber()
				p.mustMark(")")
			}
		}
		p.copyOne("asc", "desc")
	})
	p.mustMark(")")
	return names
}

func (p *parser) keyOptions() {
	for p.err == nil {
		switch {
		case p.copy("using"):
			if !p.copyOne("btree", "hash", "rtree") {
				p.fail("%s is not understood behind USING", p.peek())
			}
		case p.skip("key_block_size"):
			p.skipMark("=")
			p.next()
		case p.copy("comment"):
			p.copyString()
		case p.copy("with", "parser", "ngram"):
		case p.skip("visible"), p.skip("invisible"), p.skip("ignored"), p.skip("not", "ignored"):
		default:
			return
		}
	}
}

// column reads the definition of a column.
func (d *Definition) column(p *parser) ColumnDefinition {
	c := ColumnDefinition{Name: p.copyName()}
	if t := p.peek(); t.kind != tokenWord || typeNames[t.word] == 0 {
		p.fail("column %s has the type %s, which is not known", c.Name, t)
		return c
	}
	c.Type = p.dataType()
	if typeNames[c.Type] == 't' {
		c.Charset = d.Charset
	}
	for p.err == nil && d.columnAttribute(p, &c) {
	}
	if typeNames[c.Type] != 't' {
		c.Charset = ""
	}
	c.text = p.out.render(nil)
	return c
}

// columnAttribute reads one attribute of a column, if there is one more.
func (d *Definition) columnAttribute(p *parser, c *ColumnDefinition) bool {
	switch {
	case p.copy("not", "null"), p.copy("null"), p.copy("auto_increment"):
	case p.copy("primary", "key"):
		d.PrimaryKey = []string{c.Name}
	case p.copy("unique"):
		p.copy("key")
	case p.copy("character", "set"), p.copy("charset"):
		c.Charset = strings.ToLower(p.plainWord())
		p.out.put(c.Charset)
	case p.copy("collate"):
		name := strings.ToLower(p.plainWord())
		if to := collations[name]; to != "" {
			name = to
		}
		c.Charset, _, _ = strings.Cut(name, "_")
		p.out.put(name)
	case p.copy("default"):
		p.defaultValue()
	case p.copy("on", "update"):
		if !p.isOne("current_timestamp", "now", "localtime", "localtimestamp") {
			p.fail("%s is not understood behind ON UPDATE", p.peek())
		}
		p.operand()
	case p.copy("comment"):
		p.copyString()
	case p.is("generated"), p.is("as"):
		c.Generated = true
		p.copy("generated", "always")
		p.must("as")
		p.bracketed()
		p.copyOne("virtual", "stored", "persistent")
	case p.is("check"), p.is("constraint"):
		if p.skip("constraint") && !p.is("check") {
			p.name()
		}
		p.check()
	case p.copy("invisible"):
		c.Invisible = true
	case p.skip("visible"):
	case p.skip("compressed"):
		if p.skipMark("=") {
			p.next()
		}
		d.Notes = append(d.Notes, fmt.Sprintf("table %s: column %s is not compressed any more", d.Table, c.Name))
	case p.copy("srid"):
		p.copyNumber()
	case p.isOne("references", "storage", "column_format", "with", "without"):
		p.fail("column %s: %s is not taken over", c.Name, strings.ToUpper(p.peek().word))
	default:
		return false
	}
	return true
}

// defaultValue reads the value that a column has of itself.
func (p *parser) defaultValue() {
	if p.isMark("(") {
		p.bracketed()
		return
	}
	if p.isMark("-") || p.isMark("+") {
		sign := p.next().text
		t := p.next()
		if t.kind != tokenNumber {
			p.fail("%s is not a number", t)
			return
		}
		p.out.put(sign + t.text)
		return
	}
	p.operand()
}
