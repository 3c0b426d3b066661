package survey

import (
	"cmp"
	"context"
	"errors"
	"path"
	"slices"
	"strings"
	"time"

	"nestseed/internal/core/kind"
	"nestseed/internal/core/optval"
	"nestseed/internal/core/packing"
	"nestseed/internal/core/phpval"
	"nestseed/internal/core/sitedb"
	"nestseed/internal/core/sitevalue"
)

const (
	groupValues  = 5000 // of one column, most bytes first
	visitTime    = 5 * time.Second
	shortSetting = 4       // below this a setting is more likely a switch than a password
	shortSecret  = 12      // below this a value is more likely a word than a token
	bigTable     = 5 << 20 // a smaller one dominates nothing
	bigShare     = 3       // one in three of all bytes
	countedBytes = 8 << 30 // larger tables are not counted by value: it would read them whole
)

// mediaRows is what rows say of media files.
type mediaRows struct {
	named map[string]bool // below the kind's folder of media
	asked bool
}

// database looks at the database once.
func (t *taker) database(ctx context.Context) (err error) {
	if t.in.DB == nil {
		return nil
	}
	if t.s.Database, err = t.in.DB.Version(ctx); err != nil {
		return err
	}
	if t.s.Tables, err = t.in.DB.Tables(ctx); err != nil {
		return err
	}
	for _, tb := range t.s.Tables {
		t.s.Totals.Tables++
		t.s.Totals.Rows += tb.Rows
		t.s.Totals.DatabaseBytes += tb.DataBytes
	}
	addresses, err := Addresses(ctx, t.in.DB, t.in.Identity, t.in.Known...)
	if err == nil {
		t.s.Address, t.s.Also = addresses[0], addresses[1:]
	}
	if err != nil {
		return err
	}
	for _, do := range []func(context.Context) error{t.groups, t.values, t.options, t.mediaRows, t.code} {
		if err := do(ctx); err != nil {
			return err
		}
	}
	if t.in.Visit != nil {
		vctx, cancel := context.WithTimeout(ctx, visitTime)
		defer cancel()
		// A site that does not answer is no reason not to survey it.
		t.headers, _ = t.in.Visit(vctx, t.s.Address)
	}
	return nil
}

// table returns a table of the site by its name without prefix, or nil.
func (t *taker) table(bare string) *sitedb.Table {
	for i := range t.s.Tables {
		if tb := &t.s.Tables[i]; tb.Name == t.s.Prefix+bare && !tb.View {
			return tb
		}
	}
	return nil
}

func has(t *sitedb.Table, column string) bool { return slices.Contains(t.Stored(), column) }

// groups counts rows by the columns that the kind names, and those of the tables that belong to them.
func (t *taker) groups(ctx context.Context) error {
	for _, c := range t.kind.Counted {
		tb := t.table(c.Table)
		if tb == nil || !has(tb, c.Column) || tb.DataBytes > countedBytes {
			continue
		}
		values, err := t.in.DB.Groups(ctx, tb, c.Column, groupValues)
		if err != nil {
			return err
		}
		t.s.Groups = append(t.s.Groups, Groups{Table: c.Table, Column: c.Column, Values: values})
		if len(values) > 100 {
			continue // so many values are names, and no rule drops parents by them
		}
		for _, rel := range t.kind.Relations {
			child := t.table(rel.Table)
			if rel.To.Table != c.Table || rel.Table == c.Table || child == nil || !has(child, rel.Column) || child.DataBytes > countedBytes {
				continue
			}
			values, err := t.in.DB.RelatedGroups(ctx, child, rel.Column, tb, rel.To.Column, c.Column)
			if err != nil {
				return err
			}
			t.s.Groups = append(t.s.Groups, Groups{Table: rel.Table, Column: c.Column, By: c.Table, Values: values})
		}
	}
	return nil
}

// values reads the site's title and whether it keeps search engines out.
func (t *taker) values(ctx context.Context) (err error) {
	site := sitevalue.Site{Kind: t.kind, Prefix: t.s.Prefix, DB: t.in.DB, Settings: t.in.Identity.Settings}
	get := func(v kind.Value) (string, bool) {
		text, found, getErr := site.Get(ctx, v)
		if getErr != nil && !errors.Is(getErr, kind.ErrUnreadable) && !errors.Is(getErr, sitevalue.ErrInside) {
			err = errors.Join(err, getErr)
		}
		return text, found
	}
	if t.s.Title, err = site.Title(ctx); err != nil {
		return err
	}
	v := t.kind.Visibility
	if is, found := get(v.Place()); found && is == v.Hidden {
		t.find(Finding{Severity: note, What: "search engines are kept out", Where: v.Place().String(),
			Why: "each new site sets this for itself, so it does no harm in a starter", Advice: "nothing to do; look at it again if the source " +
				"is a site that people should find"})
	}
	return err
}

// options reads all options once: what is active, what is pending, and what looks like a secret.
func (t *taker) options(ctx context.Context) error {
	o := t.kind.Options
	tb := t.table(o.Table)
	if tb == nil {
		return nil
	}
	t.parts = map[string][]string{}
	forget := kind.Rows{Values: []string{}}
	for _, f := range t.kind.Forget {
		if f.Table == o.Table && f.Column == o.Key {
			forget.Values = append(forget.Values, f.Values...)
		}
	}
	return t.in.DB.Select(ctx, tb.Name, []string{o.Key, o.Value}, "", nil, func(row [][]byte) error {
		name, value := string(row[0]), row[1]
		for _, p := range t.kind.Extensions {
			if slices.Contains(p.Active, name) {
				optval.Each(value, func(path []string, v string) { // names are values, or keys with a weight
					t.parts[p.Folder] = append(t.parts[p.Folder], v, last(path))
				})
			}
		}
		for _, u := range t.kind.Updates {
			if u.Option == name {
				t.pending(u, value)
			}
		}
		if !matches(forget, name) {
			t.tokens(name, value)
		}
		return nil
	})
}

// pending counts the updates that the CMS has noted.
func (t *taker) pending(u kind.Update, value []byte) {
	names := map[string]bool{}
	phpval.Each(value, func(at []string, v string) {
		if len(at) <= len(u.Path) || !slices.Equal(at[:len(u.Path)], u.Path) {
			return
		}
		if u.Where == "" || at[len(at)-1] == u.Where && v == u.Is {
			names[at[len(u.Path)]] = true
		}
	})
	if len(names) > 0 {
		t.find(Finding{Severity: warning, What: "updates are pending for " + u.What, Where: "option " + u.Option, Count: int64(len(names)),
			Why: "every site made from a release would begin with old code", Advice: "update the source before you build"})
	}
}

// Tokens looks for values in an option whose names say that they are secret: the option itself, or values
// inside it by their paths.
func Tokens(option string, value []byte) (whole bool, inside []packing.Inside) {
	optval.Each(value, func(path []string, v string) {
		if !kind.SecretName(cmp.Or(last(path), option)) || len(v) < shortSecret || strings.ContainsAny(v, " \n<") || strings.Contains(v, "://") ||
			strings.Contains(v, "@") && strings.Contains(v, ".") {
			return
		}
		if len(path) == 0 {
			whole = true
		} else {
			inside = append(inside, packing.Inside{Option: option, Path: slices.Clone(path)})
		}
	})
	return whole, inside
}

// last is the last key of a path; "" of an empty one.
func last(path []string) string {
	if len(path) == 0 {
		return ""
	}
	return path[len(path)-1]
}

func (t *taker) tokens(option string, value []byte) {
	whole, inside := Tokens(option, value)
	if !whole && len(inside) == 0 {
		return
	}
	f := Finding{Severity: warning, What: "what looks like a token or licence", Where: "option " + option, Bytes: int64(len(value)),
		Count: int64(max(1, len(inside))),
		Why:   "it would be copied to every site made from a release", Remedy: &packing.Edit{BlankValues: inside}}
	if whole {
		f.Remedy.BlankOptions = []string{option}
	}
	for _, v := range inside {
		f.Examples = append(f.Examples, v.String())
	}
	t.find(f)
}

// mediaRows reads which files rows point at.
func (t *taker) mediaRows(ctx context.Context) error {
	m := t.kind.Media
	tb := t.table(m.Table)
	if m.Folder == "" || tb == nil || !has(tb, m.Key) {
		return nil
	}
	t.media = mediaRows{named: map[string]bool{}, asked: true}
	return t.in.DB.Select(ctx, tb.Name, []string{m.Key, m.Value}, m.Key, slices.Concat(m.Files, m.Derived), func(row [][]byte) error {
		if slices.Contains(m.Files, string(row[0])) {
			t.media.named[strings.TrimPrefix(string(row[1]), "/")] = true
			return nil
		}
		dir := ""
		phpval.Each(row[1], func(at []string, v string) {
			if key := at[len(at)-1]; key != "file" && key != "original_image" || v == "" {
				return
			}
			if len(at) == 1 && at[0] == "file" {
				dir = path.Dir(v)
				t.media.named[v] = true
				return
			}
			t.media.named[path.Join(dir, path.Base(v))] = true
		})
		return nil
	})
}

// code looks at views, triggers, routines and events.
func (t *taker) code(ctx context.Context) error {
	code, err := t.in.DB.Code(ctx)
	if err != nil {
		return err
	}
	var other, names, events []string
	for _, c := range code {
		if c.What == "event" {
			events = append(events, c.Name)
			continue
		}
		if c.What != "view" {
			names = append(names, c.What+" "+c.Name)
		}
		if c.Definer != "" {
			other = append(other, c.What+" "+c.Name+" runs as "+c.Definer)
		}
	}
	if len(names) > 0 {
		t.find(Finding{Severity: note, What: "triggers and routines", Where: "database", Count: int64(len(names)), Examples: firstFew(names),
			Why: "they go into a release and are rebuilt on each site, where the server must allow it", Advice: "ask the host whether its server " +
				"allows triggers and routines"})
	}
	if len(events) > 0 {
		t.find(Finding{Severity: warning, What: "events", Where: "database", Count: int64(len(events)), Examples: firstFew(events),
			Why: "they run by themselves on the server, as whoever made them; a release does not have them, and new sites are without " +
				"what they do",
			Advice: "let the site's own scheduled jobs do that work, or create them again on the sites that need them"})
	}
	if len(other) > 0 {
		t.find(Finding{Severity: note, What: "definers", Where: "database", Count: int64(len(other)), Examples: firstFew(other),
			Why: "these accounts do not exist elsewhere; a release leaves the definer away, and each site's own user " +
				"takes its place", Advice: "nothing to do, unless one must run with other rights than the site"})
	}
	return nil
}

func firstFew(s []string) []string { return s[:min(len(s), 5)] }
