package provision

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"nestseed/internal/core/kind"
	"nestseed/internal/core/packing"
	"nestseed/internal/core/sitedb"
)

// matching finds the rows of the old site again in the new content: their numbers are others there. Rows that are kept and belong to
// them are given the new numbers; those that belong to what the new content does not have stay out, with what belongs to them.
type matching struct {
	kind *kind.Kind
	// numbers of the new content by those of the old, for tables that are matched
	numbers map[string]map[string]string
	// moved are the new numbers of kept rows that could not keep theirs, by table
	moved map[string]map[string]string
	// dropped are the numbers of kept rows that stay out, by table
	dropped map[string]map[string]bool
	left    int64 // rows that stay out
}

// newMatching reads what rows are known by, of the tables that both have with numbers of their own: a kept table brings its own.
func newMatching(ctx context.Context, k *kind.Kind, old, fresh sitedb.DB, oldPrefix, prefix string, both func(bare string) bool) (*matching,
	error) {
	m := &matching{kind: k, numbers: map[string]map[string]string{}, moved: map[string]map[string]string{},
		dropped: map[string]map[string]bool{}}
	for _, rule := range k.Matched {
		if !both(rule.Table) {
			continue
		}
		numbers := map[string]string{}
		for _, by := range rule.By {
			was, err := numbersBy(ctx, old, oldPrefix+rule.Table, rule.Key, by)
			if err != nil {
				return nil, err
			}
			is, err := numbersBy(ctx, fresh, prefix+rule.Table, rule.Key, by)
			if err != nil {
				return nil, err
			}
			for known, number := range was {
				if to := is[known]; number != "" && to != "" && numbers[number] == "" {
					numbers[number] = to
				}
			}
		}
		m.numbers[rule.Table] = numbers
	}
	return m, nil
}

// numbersBy returns the number of each row by what it is known by; "" where several rows are known by the same.
func numbersBy(ctx context.Context, db sitedb.DB, table, key string, by []string) (map[string]string, error) {
	out := map[string]string{}
	err := db.Select(ctx, table, append([]string{key}, by...), "", nil, func(row [][]byte) error {
		parts := make([]string, len(by))
		for i, v := range row[1:] {
			if len(v) == 0 {
				return nil // what has no name is nobody else
			}
			parts[i] = string(v)
		}
		known := strings.Join(parts, "\x00")
		if _, twice := out[known]; twice {
			out[known] = ""
			return nil
		}
		out[known] = string(row[0])
		return nil
	})
	return out, err
}

// edit returns what is done with each row of a kept table: it reports whether the row stays.
func (m *matching) edit(bare string, columns []string) func(row [][]byte) bool {
	type relation struct {
		column int
		to     kind.Column
	}
	var relations []relation
	var own []relation // by which other rows belong to these
	for _, r := range m.kind.Relations {
		if i := slices.Index(columns, r.Column); r.Table == bare && i >= 0 {
			relations = append(relations, relation{i, r.To})
		}
		if i := slices.Index(columns, r.To.Column); r.To.Table == bare && i >= 0 {
			own = append(own, relation{i, r.To})
		}
	}
	var named []relation
	for _, rule := range m.kind.Matched {
		for _, c := range rule.Named {
			if i := slices.Index(columns, c.Column); i >= 0 && (c.Table == bare || packing.Wild(c.Table, bare)) {
				named = append(named, relation{i, kind.Column{Table: rule.Table}})
			}
		}
	}
	var moved []relation
	for _, rule := range m.kind.Matched {
		for _, c := range rule.Moved {
			if i := slices.Index(columns, c.Column); i >= 0 && (c.Table == bare || packing.Wild(c.Table, bare)) {
				moved = append(moved, relation{i, kind.Column{Table: rule.Table}})
			}
		}
	}
	return func(row [][]byte) bool {
		for _, r := range moved {
			if to, is := m.moved[r.to.Table][string(row[r.column])]; is {
				row[r.column] = []byte(to)
			}
		}
		for _, r := range named {
			if numbers, matched := m.numbers[r.to.Table]; matched && row[r.column] != nil {
				row[r.column] = []byte(cmp.Or(numbers[string(row[r.column])], "0"))
			}
		}
		for _, r := range relations {
			number := string(row[r.column])
			if number == "" || number == "0" {
				continue
			}
			if numbers, matched := m.numbers[r.to.Table]; matched && m.keyOf(r.to.Table) == r.to.Column {
				to, there := numbers[number]
				if !there {
					return m.drop(bare, row, len(own) > 0, func() int { return own[0].column })
				}
				row[r.column] = []byte(to)
			}
			if m.dropped[r.to.Table][number] {
				return m.drop(bare, row, len(own) > 0, func() int { return own[0].column })
			}
		}
		return true
	}
}

func (m *matching) keyOf(table string) string {
	for _, rule := range m.kind.Matched {
		if rule.Table == table {
			return rule.Key
		}
	}
	return ""
}

func (m *matching) drop(bare string, row [][]byte, known bool, column func() int) bool {
	m.left++
	if known {
		if m.dropped[bare] == nil {
			m.dropped[bare] = map[string]bool{}
		}
		m.dropped[bare][string(row[column()])] = true
	}
	return false
}

// inOrder sorts kept tables so that one comes after those that its rows belong to.
func (m *matching) inOrder(tables []keptTable) {
	depth := func(bare string) (n int) {
		for n < 8 {
			i := slices.IndexFunc(m.kind.Relations, func(r kind.Relation) bool {
				return r.Table == bare && r.To.Table != bare && slices.ContainsFunc(tables, func(t keptTable) bool { return t.bare == r.To.Table })
			})
			if i < 0 {
				return n
			}
			bare = m.kind.Relations[i].To.Table
			n++
		}
		return n
	}
	slices.SortStableFunc(tables, func(a, b keptTable) int { return depth(a.bare) - depth(b.bare) })
}
