package contents

import (
	"errors"
	"slices"
	"strings"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/optval"
	"nestseed/internal/core/packing"
	"nestseed/internal/core/sqltext"
)

// settings compares the constants of the settings files.
func (c *comparer) settings() error {
	syntax := c.k.Settings.Syntax
	read := func(a *archive.Archive) (kind.Settings, error) {
		if a.Manifest.Settings == "" {
			return kind.ReadSettings(syntax, nil, "", nil)
		}
		text, err := a.Read(archive.FilesDir+a.Manifest.Settings, 1<<20)
		if errors.Is(err, archive.ErrNoEntry) {
			err = nil
		}
		if err != nil {
			return nil, err
		}
		return kind.ReadSettings(syntax, text, "", nil)
	}
	old, err := read(c.a)
	if err != nil {
		return err
	}
	fresh, err := read(c.b)
	if err != nil {
		return err
	}
	seen := map[string]bool{}
	for _, name := range append(old.Names(), fresh.Names()...) {
		if seen[name] {
			continue
		}
		seen[name] = true
		before, whyBefore := old.Get(name)
		after, whyAfter := fresh.Get(name)
		if whyBefore != nil || whyAfter != nil {
			continue // computed by the program
		}
		c.value("setting "+name, name, before, after, old.Has(name), fresh.Has(name))
	}
	return nil
}

// value notes a value that differs. name decides whether it is secret.
func (c *comparer) value(where, name, before, after string, was, is bool) {
	if was == is && before == after {
		return
	}
	d := ValueDelta{Where: where, Before: shorten(before), After: shorten(after), Change: "changed"}
	if !was {
		d.Change = "added"
	} else if !is {
		d.Change = "removed"
	}
	if kind.SecretName(name) || slices.Contains(c.b.Manifest.List.Blank.Options, name) || slices.Contains(c.b.Manifest.List.Blank.Settings,
		name) {
		d.Secret = true
		if d.Before != "" {
			d.Before = mask
		}
		if d.After != "" {
			d.After = mask
		}
	}
	if len(c.out.Values) == listedValues {
		c.out.MoreVals++
		return
	}
	c.out.Values = append(c.out.Values, d)
}

func shorten(s string) string {
	s = strings.ToValidUTF8(s, "�")
	if len(s) <= shownValue {
		return s
	}
	cut := shownValue
	for cut > 0 && s[cut]&0xc0 == 0x80 {
		cut--
	}
	return s[:cut] + "…"
}

// options compares the rows of the table of options, value by value.
func (c *comparer) options() error {
	o := c.k.Options
	read := func(a *archive.Archive) (map[string]string, error) {
		out := map[string]string{}
		for _, t := range a.Manifest.Tables {
			if t.Name != a.Manifest.Origin.Prefix+o.Table {
				continue
			}
			err := a.EachRow(c.ctx, t, func(columns []string, row []sqltext.Literal) error {
				k, v := slices.Index(columns, o.Key), slices.Index(columns, o.Value)
				if k < 0 || v < 0 || len(row[v]) > 4<<20 {
					return nil
				}
				key, err := row[k].AppendValue(nil)
				if err != nil {
					return err
				}
				value, err := row[v].AppendValue(nil)
				out[string(key)] = string(value)
				return err
			})
			if err != nil {
				return nil, err
			}
		}
		return out, nil
	}
	old, err := read(c.a)
	if err != nil {
		return err
	}
	fresh, err := read(c.b)
	if err != nil {
		return err
	}
	names := map[string]bool{}
	for n := range old {
		names[n] = true
	}
	for n := range fresh {
		names[n] = true
	}
	for _, name := range sortedKeys(names) {
		if c.forgotten(name) {
			continue
		}
		before, was := old[name]
		after, is := fresh[name]
		if was && is {
			if before != after {
				c.inside(name, before, after)
			}
			continue
		}
		c.value("option "+name, name, before, after, was, is)
	}
	return nil
}

// forgotten reports whether an option is one that the CMS rebuilds by itself.
func (c *comparer) forgotten(name string) bool {
	return slices.ContainsFunc(c.k.Forget, func(r kind.Rows) bool {
		return r.Table == c.k.Options.Table && r.Column == c.k.Options.Key &&
			slices.ContainsFunc(r.Values, func(v string) bool { return packing.Wild(v, name) })
	})
}

// inside compares an option value by value where it holds several.
func (c *comparer) inside(name, before, after string) {
	flat := func(s string) map[string]string {
		out := map[string]string{}
		optval.Each([]byte(s), func(path []string, v string) {
			if len(out) < 20_000 {
				out[strings.Join(path, " › ")] = v
			}
		})
		return out
	}
	x, y := flat(before), flat(after)
	paths := map[string]bool{}
	for p := range x {
		paths[p] = true
	}
	for p := range y {
		paths[p] = true
	}
	for _, p := range sortedKeys(paths) {
		old, was := x[p]
		fresh, is := y[p]
		where, last := "option "+name, name
		if p != "" {
			where += " › " + p
			last = p
			if i := strings.LastIndex(p, " › "); i >= 0 {
				last = p[i+len(" › "):]
			}
			if kind.SecretName(name) {
				last = name
			}
		}
		c.value(where, last, old, fresh, was, is)
	}
}

func sortedKeys(m map[string]bool) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}
