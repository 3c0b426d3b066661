package sqltext

import (
	"slices"
	"strings"
)

// MapStrings passes every string in the definition through f: defaults, comments, values of an ENUM, what checks compare with.
func (d *Definition) MapStrings(f func(string) string) {
	for i := range d.Columns {
		if d.Columns[i].line != nil {
			d.Columns[i].line.mapStrings(f)
			continue
		}
		d.Columns[i].text = d.of().mapStrings(d.Columns[i].text, f)
	}
	for _, t := range slices.Concat(d.lines, d.indexes) {
		t.mapStrings(f)
	}
	for i := range d.items {
		d.items[i] = MySQL.mapStrings(d.items[i], f)
	}
	for i := range d.options {
		d.options[i] = MySQL.mapStrings(d.options[i], f)
	}
}

// MapStrings passes every string in the program through f.
func (g *Program) MapStrings(f func(string) string) { g.text.mapStrings(f) }

func (t *text) mapStrings(f func(string) string) {
	d := t.dialect
	if d == nil {
		d = MySQL
	}
	for i := range t.parts {
		switch p := &t.parts[i]; {
		case p.body != nil:
			p.body.mapStrings(f)
		case !p.table:
			p.text = d.mapStrings(p.text, f)
		}
	}
}

// of returns the dialect that the definition is of.
func (d *Definition) of() *Dialect {
	if d.dialect == nil {
		return MySQL
	}
	return d.dialect
}

// mapStrings does so for a part of a statement as this package writes it: names in backticks, strings in single quotes.
func (d *Dialect) mapStrings(s string, f func(string) string) string {
	var out strings.Builder
	done := 0
	for at := 0; at < len(s); {
		end := at + 1
		escaped := d.escapes || at > 0 && s[at-1] == 'E'
		if s[at] == d.quote || s[at] == '\'' {
			for end < len(s) && (s[end] != s[at] || end+1 < len(s) && s[end+1] == s[at]) {
				if s[end] == s[at] || s[end] == '\\' && s[at] == '\'' && escaped {
					end++
				}
				end++
			}
			end = min(end+1, len(s))
		}
		if s[at] == '\'' {
			from := at
			if !d.escapes && escaped {
				from-- // E'…'
			}
			lit, err := d.normal(Literal(s[from:end]), new([]byte), true)
			var value []byte
			if err == nil {
				value, err = lit.AppendValue(nil)
			}
			if now := f(string(value)); err == nil && now != string(value) {
				out.WriteString(s[done:from])
				out.WriteString(d.String(now))
				done = end
			}
		}
		at = end
	}
	return out.String() + s[done:]
}
