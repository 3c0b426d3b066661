package provision

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"nestseed/internal/core/kind"
	"nestseed/internal/core/packing"
	"nestseed/internal/core/sitedb"
)

// keeper takes parts of the site that is replaced over into the prepared one.
type keeper struct {
	mk     *maker
	parts  []kind.Keep
	old    sitedb.DB
	snap   sitedb.Snapshot // of it
	tables []keptTable     // of it
	loader sitedb.Loader
	match  *matching
}

// keptTable is a table of the old site, with its name without the prefix.
type keptTable struct {
	*sitedb.Table
	bare string
}

// keepOld takes parts of the old site over into the prepared one: rows of tables that have others too first, as whole tables may
// belong to them.
func (mk *maker) keepOld(ctx context.Context) (err error) {
	if mk.req.Replace == nil {
		return nil
	}
	k := &keeper{mk: mk}
	if k.parts, err = keepParts(mk.req.Kind, mk.req.Replace.Keep); err != nil {
		return err
	}
	if err := k.open(ctx); err != nil {
		return errors.Join(err, k.close())
	}
	defer k.close()
	for _, part := range k.parts {
		if err := k.rows(ctx, part); err != nil {
			return fmt.Errorf("keep %s: %w", part.What, err)
		}
	}
	for _, part := range k.parts {
		if err := k.whole(ctx, part); err != nil {
			return fmt.Errorf("keep %s: %w", part.What, err)
		}
		for _, folder := range part.Folders {
			if err := mk.keepFolder(ctx, folder); err != nil {
				return fmt.Errorf("keep %s: %w", part.What, err)
			}
		}
	}
	return nil
}

func (k *keeper) open(ctx context.Context) (err error) {
	mk := k.mk
	if k.old, err = mk.req.openOld(ctx); err != nil {
		return err
	}
	tables, err := k.old.Tables(ctx)
	if err != nil {
		return err
	}
	for i := range tables {
		if bare, own := strings.CutPrefix(tables[i].Name, mk.req.Replace.Prefix); own && !tables[i].View {
			k.tables = append(k.tables, keptTable{&tables[i], bare})
		}
	}
	if k.snap, err = k.old.Snapshot(ctx); err != nil {
		return err
	}
	if k.loader, err = mk.db.Loader(ctx); err != nil {
		return err
	}
	k.match, err = newMatching(ctx, mk.req.Kind, k.old, mk.db, mk.req.Replace.Prefix, mk.plan.Prefix, func(bare string) bool {
		there := slices.ContainsFunc(k.tables, func(t keptTable) bool { return t.bare == bare })
		return there && mk.hasTable(bare) && !keeps(k.parts, bare)
	})
	return err
}

func (k *keeper) close() (err error) {
	if k.loader != nil {
		err = k.loader.Close()
	}
	if k.snap != nil {
		err = errors.Join(err, k.snap.Close())
	}
	if k.old != nil {
		err = errors.Join(err, k.old.Close())
	}
	return err
}

// keeps reports whether parts have a table.
func keeps(parts []kind.Keep, bare string) bool {
	return slices.ContainsFunc(parts, func(part kind.Keep) bool {
		return slices.ContainsFunc(part.Tables, func(p string) bool { return p == bare || packing.Wild(p, bare) })
	})
}

// whole takes the whole tables of a part over.
func (k *keeper) whole(ctx context.Context, part kind.Keep) error {
	taken := slices.DeleteFunc(slices.Clone(k.tables), func(t keptTable) bool { return !keeps([]kind.Keep{part}, t.bare) })
	k.match.inOrder(taken)
	k.match.left = 0
	for _, t := range taken {
		n, err := k.table(ctx, t)
		if err != nil {
			return err
		}
		k.mk.noteKept(part.What, n)
	}
	if k.match.left > 0 {
		k.mk.result.Adjustments = append(k.mk.result.Adjustments,
			fmt.Sprintf("of the %s, %d rows belong to pages that the release does not have; "+
				"they stay in the safety copy", part.Title, k.match.left))
	}
	return nil
}

func (mk *maker) noteKept(what string, rows int64) {
	mk.mu.Lock()
	defer mk.mu.Unlock()
	if mk.result.Kept == nil {
		mk.result.Kept = map[string]int64{}
	}
	mk.result.Kept[what] += rows
}

// target is a table of the new site.
func (k *keeper) target(ctx context.Context, bare string) (*sitedb.Table, error) {
	there, err := k.mk.db.Tables(ctx)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(there, func(x sitedb.Table) bool { return x.Name == k.mk.table(bare) })
	if i < 0 {
		return nil, fmt.Errorf("table %s is not there", k.mk.table(bare))
	}
	return &there[i], nil
}

// table puts the rows of a table of the old site in the place of those of the release. A table that only the old site
// has is made first.
func (k *keeper) table(ctx context.Context, t keptTable) (int64, error) {
	mk, bare := k.mk, t.bare
	if mk.hasTable(bare) {
		if err := mk.db.Empty(ctx, mk.table(bare)); err != nil {
			return 0, err
		}
	} else {
		d, err := k.snap.Definition(ctx, t.Table)
		if err == nil {
			err = k.loader.CreateTable(ctx, d, func(string) string { return mk.table(bare) })
		}
		if err != nil {
			return 0, err
		}
	}
	into, err := k.target(ctx, bare)
	if err != nil {
		return 0, err
	}
	return sitedb.CopyRows(ctx, k.snap, t.Table, k.loader, into,
		func(columns []string) func([][]byte) bool { return k.match.edit(bare, columns) })
}

// rows takes rows of a part over that stand among others: orders that a shop keeps as posts. They keep their numbers, by which people
// know them, unless the release's content has those; what belongs to them follows.
func (k *keeper) rows(ctx context.Context, part kind.Keep) error {
	for _, rule := range part.Rows {
		i := slices.IndexFunc(k.tables, func(t keptTable) bool { return t.bare == rule.Table })
		key := k.match.keyOf(rule.Table)
		if i < 0 || key == "" || !k.mk.hasTable(rule.Table) {
			continue
		}
		kept, err := k.numbers(ctx, k.tables[i], key, rule.Column, rule.Values)
		if err != nil || len(kept) == 0 {
			return err
		}
		for _, v := range rule.Values { // those of the release make room
			if err := k.mk.db.DeleteLike(ctx, k.mk.table(rule.Table), rule.Column, v); err != nil {
				return err
			}
		}
		n, err := k.copyOwned(ctx, k.tables[i], key, kept, "")
		if err != nil {
			return err
		}
		k.mk.noteKept(part.What, n)
		for _, own := range part.With {
			t := slices.IndexFunc(k.tables, func(t keptTable) bool { return t.bare == own.Table })
			if t < 0 || !k.mk.hasTable(own.Table) {
				continue
			}
			counted := ""
			if pk := k.tables[t].PrimaryKey; len(pk) == 1 && pk[0] != own.Column {
				counted = pk[0] // the server gives new ones
			}
			n, err := k.copyOwned(ctx, k.tables[t], own.Column, kept, counted)
			if err != nil {
				return err
			}
			k.mk.noteKept(part.What, n)
		}
	}
	return nil
}

// numbers gives each row that is kept its number on the new site.
func (k *keeper) numbers(ctx context.Context, t keptTable, key, column string, values []string) (map[string]string, error) {
	taken, most := map[string]bool{}, uint64(0)
	note := func(number []byte) {
		taken[string(number)] = true
		if n, err := strconv.ParseUint(string(number), 10, 63); err == nil {
			most = max(most, n)
		}
	}
	// What the release has of the same sort goes, so that its numbers are free.
	err := k.mk.db.Select(ctx, k.mk.table(t.bare), []string{key, column}, "", nil, func(row [][]byte) error {
		if !slices.Contains(values, string(row[1])) {
			note(row[0])
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	var olds []string
	err = k.old.Select(ctx, t.Name, []string{key}, column, values, func(row [][]byte) error {
		olds = append(olds, string(row[0]))
		return nil
	})
	if err != nil {
		return nil, err
	}
	for _, old := range olds {
		if n, err := strconv.ParseUint(old, 10, 63); err == nil {
			most = max(most, n)
		}
	}
	kept, moved := map[string]string{}, 0
	for _, old := range olds {
		kept[old] = old
		if taken[old] {
			most++
			moved++
			kept[old] = strconv.FormatUint(most, 10)
			if k.match.moved[t.bare] == nil {
				k.match.moved[t.bare] = map[string]string{}
			}
			k.match.moved[t.bare][old] = kept[old]
		}
	}
	if moved > 0 {
		k.mk.result.Adjustments = append(k.mk.result.Adjustments,
			fmt.Sprintf("%d of %d rows that were kept in %s have new numbers, as the release "+
				"has theirs", moved, len(olds), t.bare))
	}
	if k.match.numbers[t.bare] != nil {
		for old, now := range kept {
			k.match.numbers[t.bare][old] = now
		}
	}
	return kept, nil
}

// copyOwned copies the rows whose column has one of the kept numbers, with their new ones. counted is a column that the server fills.
func (k *keeper) copyOwned(ctx context.Context, t keptTable, column string, kept map[string]string, counted string) (int64, error) {
	into, err := k.target(ctx, t.bare)
	if err != nil {
		return 0, err
	}
	some := *into
	some.Columns = slices.DeleteFunc(slices.Clone(into.Columns), func(c sitedb.Column) bool { return c.Name == counted && counted != "" })
	return sitedb.CopyRows(ctx, k.snap, t.Table, k.loader, &some, func(columns []string) func([][]byte) bool {
		at := slices.Index(columns, column)
		others := k.match.edit(t.bare, columns)
		return func(row [][]byte) bool {
			if at < 0 {
				return false
			}
			now, is := kept[string(row[at])]
			if !is {
				return false
			}
			left := k.match.left
			if !others(row) { // what it belongs to is gone; it is kept all the same
				k.match.left = left
				delete(k.match.dropped[t.bare], string(row[at]))
			}
			row[at] = []byte(now)
			return true
		}
	})
}
