package network

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"

	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/phpval"
	"nestseed/internal/core/sitedb"
	"nestseed/internal/core/sqltext"
)

// Alone shows one sub-site of a network as if it were a site of its own: its own tables, of the accounts those that belong to it, its own
// uploads, and settings by which it is no network. The identity becomes that of the sub-site; root is its folder below fsys. Nothing is
// changed where it is read. Errors: kind.ErrCannotRead.
func Alone(ctx context.Context, fsys hostfs.FS, root string, db sitedb.DB, id *kind.Identity, name string) (hostfs.FS, sitedb.DB, error) {
	s, err := Find(id.SubSites, name)
	if err != nil {
		return nil, nil, err
	}
	v := &view{DB: db, kind: id.Kind, prefix: id.Prefix, own: id.Prefix, others: slices.Clone(id.Kind.Subs), options: map[string]string{}}
	n := id.Kind.Network
	if !s.Main {
		v.own += n.Before(s.ID)
		v.others = slices.DeleteFunc(v.others, func(sub string) bool { return sub == n.Before(s.ID) })
		for option, value := range n.Alone.Options {
			v.options[option] = strings.ReplaceAll(value, "{id}", s.ID)
		}
	}
	if err := v.members(ctx); err != nil {
		return nil, nil, fmt.Errorf("read the accounts of sub-site %s: %w", s.Address, err)
	}
	if err := v.everywhere(ctx); err != nil {
		return nil, nil, fmt.Errorf("read which extensions all sub-sites have active: %w", err)
	}
	for _, main := range id.SubSites {
		if main.Main && !s.Main {
			id.Also = append(id.Also, main.Address) // its files and pictures are found there too
		}
	}
	id.Prefix, id.SubSites = v.own, nil
	id.Kind = id.Kind.Single()
	id.Settings = id.Settings.Clone()
	for setting, value := range n.Alone.Settings {
		if id.Settings.Has(setting) {
			id.Settings.Set(setting, value)
		}
	}
	return hostfs.Without(fsys, hides(path.Clean(root), n, s, path.Dir(n.Media.Folder))), v, nil
}

// hides returns whether a file belongs to another sub-site. uploads is the folder in which the main one has its own, and all others theirs.
func hides(root string, n kind.Network, s kind.SubSite, uploads string) func(name string) bool {
	own := strings.ReplaceAll(n.Media.Own, "{id}", s.ID)
	within := func(name, folder string) bool { return strings.HasPrefix(name+"/", folder+"/") }
	return func(name string) bool {
		p, inside := strings.CutPrefix(name, root+"/")
		if root == "." {
			p, inside = name, true
		}
		switch {
		case !inside || n.Media.Folder == "":
			return false
		case s.Main:
			return within(p, n.Media.Folder)
		}
		return within(p, uploads) && !within(p, own) && !within(own, p)
	}
}

// view is a database of which only one sub-site's part is seen. It is only read.
type view struct {
	sitedb.DB
	kind    *kind.Kind
	prefix  string            // of the network
	own     string            // of the sub-site
	others  []string          // what stands before the tables of the others, after the prefix
	account map[string]bool   // numbers of the accounts that belong to it
	options map[string]string // options with another value
	active  []string          // extensions that all sub-sites have active
}

// shown returns the name that a table of the network has in the sub-site; own is false for one of another's.
func (v *view) shown(real string) (name string, own bool) {
	bare, in := strings.CutPrefix(real, v.prefix)
	n := v.kind.Network
	switch {
	case !in || slices.Contains(n.Only, bare) || slices.ContainsFunc(v.others, func(o string) bool { return strings.HasPrefix(bare, o) }):
		return "", false
	case slices.Contains(n.Shared, bare):
		return v.own + bare, true
	}
	return real, strings.HasPrefix(real, v.own)
}

// real returns what a table of the sub-site is called in the network.
func (v *view) real(name string) string {
	if bare, in := strings.CutPrefix(name, v.own); in && slices.Contains(v.kind.Network.Shared, bare) {
		return v.prefix + bare
	}
	return name
}

// members reads which accounts belong to the sub-site.
func (v *view) members(ctx context.Context) error {
	m := v.kind.Network.Alone.Member
	v.account = map[string]bool{}
	keys := make([]string, len(m.Values))
	for i, key := range m.Values {
		keys[i] = strings.ReplaceAll(key, "{prefix}", v.own)
	}
	return v.DB.Select(ctx, v.prefix+m.Table, []string{m.By}, m.Column, keys, func(row [][]byte) error {
		v.account[string(row[0])] = true
		return nil
	})
}

// everywhere reads which extensions all sub-sites have active: the keys of a serialised array.
func (v *view) everywhere(ctx context.Context) error {
	e := v.kind.Network.Alone.Everywhere
	if e.Table == "" {
		return nil
	}
	raw, found, err := v.DB.Lookup(ctx, v.prefix+e.Table, e.Where, e.Is, e.Column)
	if err != nil || !found {
		return err
	}
	members, err := phpval.Members([]byte(raw))
	if err != nil {
		return nil // what is broken there, the network does not read either
	}
	for _, m := range members {
		v.active = append(v.active, m.Key)
	}
	return nil
}

// Tables implements sitedb.Reader.
func (v *view) Tables(ctx context.Context) ([]sitedb.Table, error) {
	all, err := v.DB.Tables(ctx)
	var out []sitedb.Table
	for _, t := range all {
		if name, own := v.shown(t.Name); own {
			if filter := v.filter(t.Name, t.Stored()); filter != nil && t.Rows > 0 && name != t.Name {
				t.Rows = min(t.Rows, int64(len(v.account)))
			}
			t.Name = name
			out = append(out, t)
		}
	}
	slices.SortFunc(out, func(a, b sitedb.Table) int { return strings.Compare(a.Name, b.Name) })
	return out, err
}

// Lookup implements sitedb.Reader.
func (v *view) Lookup(ctx context.Context, table, keyColumn, key, valueColumn string) (value string, found bool, err error) {
	value, found, err = v.DB.Lookup(ctx, v.real(table), keyColumn, key, valueColumn)
	if o := v.kind.Options; err == nil && table == v.own+o.Table && keyColumn == o.Key && valueColumn == o.Value {
		if fresh, is := v.option(key, []byte(value)); is && found {
			value = string(fresh)
		}
	}
	return value, found, err
}

// option returns what an option is for a site of its own, where that is something else.
func (v *view) option(name string, value []byte) ([]byte, bool) {
	if fresh, is := v.options[name]; is {
		return []byte(fresh), true
	}
	if name != v.kind.Network.Alone.Active || len(v.active) == 0 {
		return nil, false
	}
	return withActive(value, v.active)
}

// filter returns what is done with each row of a table of the network on the way: it may change it, and says whether it is one of the
// sub-site's. It is nil where rows are as they are.
func (v *view) filter(real string, columns []string) func(row [][]byte) bool {
	at := func(column string) int { return slices.Index(columns, column) }
	m, o := v.kind.Network.Alone.Member, v.kind.Options
	switch real {
	case v.prefix + m.Account.Table:
		if id := at(m.Account.Column); id >= 0 {
			return func(row [][]byte) bool { return v.account[string(row[id])] }
		}
	case v.prefix + m.Table:
		if by, key := at(m.By), at(m.Column); by >= 0 && key >= 0 {
			return func(row [][]byte) bool { return v.account[string(row[by])] && !v.elsewhere(row[key]) }
		}
	case v.own + o.Table:
		if key, value := at(o.Key), at(o.Value); key >= 0 && value >= 0 {
			return func(row [][]byte) bool {
				if fresh, is := v.option(string(row[key]), row[value]); is {
					row[value] = fresh
				}
				return true
			}
		}
	}
	return nil
}

// elsewhere reports whether a key is what an account has at another sub-site.
func (v *view) elsewhere(key []byte) bool {
	bare, in := bytes.CutPrefix(key, []byte(v.prefix))
	if !in || v.own != v.prefix && bytes.HasPrefix(key, []byte(v.own)) {
		return false
	}
	return v.own != v.prefix || slices.ContainsFunc(v.others, func(o string) bool { return bytes.HasPrefix(bare, []byte(o)) })
}

// Groups implements sitedb.DB.
func (v *view) Groups(ctx context.Context, t *sitedb.Table, column string, limit int) ([]sitedb.Group, error) {
	real := *t
	real.Name = v.real(t.Name)
	if real.Name == t.Name {
		return v.DB.Groups(ctx, &real, column, limit)
	}
	columns := t.Stored()
	at, filter := slices.Index(columns, column), v.filter(real.Name, columns)
	found := map[string]*sitedb.Group{}
	err := v.DB.Select(ctx, real.Name, columns, "", nil, func(row [][]byte) error {
		if filter != nil && !filter(row) {
			return nil
		}
		g := found[string(row[at])]
		if g == nil {
			g = &sitedb.Group{Value: string(row[at])}
			found[g.Value] = g
		}
		g.Rows++
		for _, c := range row {
			g.Bytes += int64(len(c))
		}
		return nil
	})
	var out []sitedb.Group
	for _, g := range found {
		out = append(out, *g)
	}
	slices.SortFunc(out, func(a, b sitedb.Group) int {
		return cmp.Or(cmp.Compare(b.Bytes, a.Bytes), strings.Compare(a.Value, b.Value))
	})
	return out[:min(len(out), limit)], err
}

// RelatedGroups implements sitedb.DB.
func (v *view) RelatedGroups(ctx context.Context, t *sitedb.Table, column string, to *sitedb.Table, key, by string) ([]sitedb.Group,
	error) {
	of, in := *t, *to
	of.Name, in.Name = v.real(t.Name), v.real(to.Name)
	return v.DB.RelatedGroups(ctx, &of, column, &in, key, by)
}

// Select implements sitedb.DB. Of accounts it is told their own columns by, so that those of others can be left out.
func (v *view) Select(ctx context.Context, table string, columns []string, where string, values []string,
	each func(row [][]byte) error) error {
	real := v.real(table)
	m := v.kind.Network.Alone.Member
	need := slices.Clone(columns)
	for of, names := range map[string][]string{v.prefix + m.Account.Table: {m.Account.Column}, v.prefix + m.Table: {m.By, m.Column}} {
		for _, c := range names {
			if of == real && !slices.Contains(need, c) {
				need = append(need, c)
			}
		}
	}
	filter := v.filter(real, need)
	return v.DB.Select(ctx, real, need, where, values, func(row [][]byte) error {
		if filter != nil && !filter(row) {
			return nil
		}
		return each(row[:len(columns)])
	})
}

// Snapshot implements sitedb.Reader.
func (v *view) Snapshot(ctx context.Context) (sitedb.Snapshot, error) {
	s, err := v.DB.Snapshot(ctx)
	return &snapshot{s, v}, err
}

type snapshot struct {
	sitedb.Snapshot
	v *view
}

// Definition implements sitedb.Snapshot.
func (s *snapshot) Definition(ctx context.Context, t *sitedb.Table) (*sqltext.Definition, error) {
	real := *t
	real.Name = s.v.real(t.Name)
	d, err := s.Snapshot.Definition(ctx, &real)
	if d != nil {
		d.Table = t.Name
	}
	return d, err
}

// Programs implements sitedb.Snapshot. What names tables that have other names here is left out.
func (s *snapshot) Programs(ctx context.Context, tables []sitedb.Table) (out []*sqltext.Program, left []sitedb.LeftOut, err error) {
	real := slices.Clone(tables)
	for i := range real {
		real[i].Name = s.v.real(real[i].Name)
	}
	all, left, err := s.Snapshot.Programs(ctx, real)
	for _, g := range all {
		if i := slices.IndexFunc(g.Uses, func(used string) bool {
			name, own := s.v.shown(used)
			return !own || name != used
		}); i >= 0 {
			left = append(left, sitedb.LeftOut{What: g.Type + " " + g.Name,
				Reason: "it uses " + g.Uses[i] + ", which is for all sub-sites of the network"})
			continue
		}
		out = append(out, g)
	}
	return out, left, err
}

// PlainSums implements sitedb.Snapshot. Of a table whose rows are not all the sub-site's, the server has no sums.
func (s *snapshot) PlainSums(ctx context.Context, table string, columns []sitedb.Column) ([]uint64, error) {
	if s.v.real(table) != table {
		return nil, nil
	}
	if m := s.v.kind.Network.Alone.Member; table == s.v.prefix+m.Account.Table || table == s.v.prefix+m.Table {
		return nil, nil
	}
	return s.Snapshot.PlainSums(ctx, table, columns)
}

// Rows implements sitedb.Snapshot.
func (s *snapshot) Rows(ctx context.Context, t *sitedb.Table, each func(row [][]byte) error) error {
	real := *t
	real.Name = s.v.real(t.Name)
	filter := s.v.filter(real.Name, t.Stored())
	if filter == nil {
		return s.Snapshot.Rows(ctx, &real, each)
	}
	return s.Snapshot.Rows(ctx, &real, func(row [][]byte) error {
		if !filter(row) {
			return nil
		}
		return each(row)
	})
}

// withActive adds extensions to a serialised list of those that are active. A list that is broken stays.
func withActive(list []byte, more []string) ([]byte, bool) {
	members, err := phpval.Members(list)
	if err != nil {
		return nil, false
	}
	next, has := 0, map[string]bool{}
	for _, m := range members {
		if n, err := strconv.Atoi(m.Key); m.Int && err == nil {
			next = max(next, n+1)
		}
		text, _ := phpval.Lookup(m.Value)
		has[text] = true
	}
	for _, name := range more {
		if !has[name] {
			members = append(members, phpval.Member{Key: strconv.Itoa(next), Int: true, Value: phpval.AppendString(nil, name)})
			next++
		}
	}
	return phpval.AppendArray(nil, members), true
}
