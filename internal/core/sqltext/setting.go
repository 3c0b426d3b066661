package sqltext

import "strings"

// Setting is one assignment of a SET statement.
type Setting struct {
	Name   string // in small letters; "@name" for a variable of the session's own
	Global bool   // of the server, and not of the session
	Value  string // what it is set to, as far as that is one value; names of others as they are written
}

// ParseSettings takes a SET statement apart, comments resolved. SET NAMES and SET CHARACTER SET are settings of those names.
func ParseSettings(stmt []byte) ([]Setting, error) {
	p := newParser(stmt, inProgram)
	p.must("set")
	var out []Setting
	p.list(func() { out = append(out, p.setting()) })
	return out, p.end()
}

func (p *parser) setting() (s Setting) {
	switch {
	case p.skip("names"):
		s.Name = "names"
		s.Value = p.settingValue()
		if p.skip("collate") {
			p.next()
		}
		return s
	case p.skip("character", "set"), p.skip("charset"):
		return Setting{Name: "character set", Value: p.settingValue()}
	case p.skipMark("@"):
		if !p.skipMark("@") {
			s.Name = "@" + p.name()
			break
		}
		if s.Name = strings.ToLower(p.name()); p.skipMark(".") {
			s.Global = s.Name != "session" && s.Name != "local"
			s.Name = strings.ToLower(p.name())
		}
	default:
		if p.isOne("global", "persist", "persist_only") {
			s.Global = true
			p.next()
		} else if !p.skip("session") {
			p.skip("local")
		}
		s.Name = strings.ToLower(p.name())
	}
	if !p.skipMark("=") && !p.skipMark(":=") {
		p.fail("%s stands where = should be", p.peek())
	}
	s.Value = p.settingValue()
	return s
}

// settingValue reads a value up to the next comma.
func (p *parser) settingValue() string {
	var parts []string
	depth := 0
	for p.err == nil && p.peek().kind != tokenEnd && (depth > 0 || !p.isMark(",")) {
		t := p.next()
		switch {
		case t.kind == tokenMark && t.text == "(":
			depth++
		case t.kind == tokenMark && t.text == ")":
			depth--
		}
		parts = append(parts, t.text)
	}
	if len(parts) == 0 || depth != 0 {
		p.fail("a value is missing")
	}
	return strings.Join(parts, "")
}

// ParseDrop returns what a DROP TABLE or DROP DATABASE statement drops, comments resolved.
func ParseDrop(stmt []byte) (what string, names []string, err error) {
	p := newParser(stmt, inTable)
	p.must("drop")
	p.skip("temporary")
	what = p.next().word
	p.skip("if", "exists")
	p.list(func() { names = append(names, p.anyDatabase()) })
	if !p.skip("cascade") {
		p.skip("restrict")
	}
	return what, names, p.end()
}
