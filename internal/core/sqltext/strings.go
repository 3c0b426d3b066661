package sqltext

import "strings"

// MapStrings passes every string in the definition through f: defaults, comments, values of an ENUM, what checks compare with.
func (d *Definition) MapStrings(f func(string) string) {
	for i := range d.Columns {
		d.Columns[i].text = mapStrings(d.Columns[i].text, f)
	}
	for i := range d.items {
		d.items[i] = mapStrings(d.items[i], f)
	}
	for i := range d.options {
		d.options[i] = mapStrings(d.options[i], f)
	}
}

// MapStrings passes every string in the program through f.
func (g *Program) MapStrings(f func(string) string) {
	for i := range g.text.parts {
		if p := &g.text.parts[i]; !p.table {
			p.text = mapStrings(p.text, f)
		}
	}
}

// mapStrings does so for a part of a statement as this package writes it: names in backticks, strings in single quotes.
func mapStrings(s string, f func(string) string) string {
	var out strings.Builder
	done := 0
	for at := 0; at < len(s); {
		end := at + 1
		if s[at] == '`' || s[at] == '\'' {
			for end < len(s) && (s[end] != s[at] || end+1 < len(s) && s[end+1] == s[at]) {
				if s[end] == s[at] || s[end] == '\\' && s[at] == '\'' {
					end++
				}
				end++
			}
			end = min(end+1, len(s))
		}
		if s[at] == '\'' {
			value, err := Literal(s[at:end]).AppendValue(nil)
			if now := f(string(value)); err == nil && now != string(value) {
				out.WriteString(s[done:at])
				out.WriteString(String(now))
				done = end
			}
		}
		at = end
	}
	return out.String() + s[done:]
}
