package postgres

import (
	"context"
	"slices"

	"nestseed/internal/core/sitedb"
	"nestseed/internal/core/sqltext"
)

// here is the condition that an object is in the database's schema and not brought by an extension: of columns with the schema and the
// object's number.
func here(schema, object string) string {
	return schema + " = quote_ident(current_schema())::regnamespace" + notOfExtension(object)
}

func notOfExtension(object string) string {
	return " AND NOT EXISTS (SELECT FROM pg_depend e WHERE e.objid = " + object + " AND e.deptype = 'e')"
}

// programSorts are the sorts of programs in the order in which they can be made, with queries for their names, their owners and the
// statements that make them (PostgreSQL manual, 9.26.8 "System Catalog Information Functions", and chapter 53, "System Catalogs").
var programSorts = []struct {
	what  string
	first bool // see sqltext.Program.First
	list  string
}{
	{"extension", true, `SELECT extname, pg_get_userbyid(extowner), 'CREATE EXTENSION ' || quote_ident(extname) FROM pg_extension
		WHERE extname <> 'plpgsql' ORDER BY 1`},
	{"type", true, `SELECT t.typname, pg_get_userbyid(t.typowner), 'CREATE TYPE ' || quote_ident(t.typname) || CASE t.typtype
			WHEN 'e' THEN ' AS ENUM (' || (SELECT string_agg(quote_literal(enumlabel), ', ' ORDER BY enumsortorder) FROM pg_enum
				WHERE enumtypid = t.oid) || ')'
			WHEN 'c' THEN ' AS (' || (SELECT string_agg(quote_ident(attname) || ' ' || format_type(atttypid, atttypmod) || COALESCE((
				SELECT ' COLLATE ' || quote_ident(collname) FROM pg_collation l JOIN pg_type y ON y.oid = atttypid
				WHERE l.oid = attcollation AND l.oid <> y.typcollation), ''), ', ' ORDER BY attnum)
				FROM pg_attribute WHERE attrelid = t.typrelid AND attnum > 0 AND NOT attisdropped) || ')'
			ELSE (SELECT ' AS RANGE (SUBTYPE = ' || format_type(rngsubtype, NULL) || CASE WHEN rngcanonical <> 0 OR rngsubdiff <> 0
				OR NOT (SELECT opcdefault FROM pg_opclass WHERE oid = rngsubopc) THEN ', ...' ELSE '' END || ')' FROM pg_range
				WHERE rngtypid = t.oid) END
		FROM pg_type t LEFT JOIN pg_class c ON c.oid = t.typrelid WHERE ` + here("t.typnamespace", "t.oid") + `
		AND (t.typtype IN ('e', 'r') OR t.typtype = 'c' AND c.relkind = 'c') ORDER BY t.oid`},
	{"domain", true, `SELECT t.typname, pg_get_userbyid(t.typowner), 'CREATE DOMAIN ' || quote_ident(t.typname) || ' AS ' ||
			format_type(t.typbasetype, t.typtypmod) || CASE WHEN t.typnotnull THEN ' NOT NULL' ELSE '' END ||
			COALESCE(' DEFAULT ' || t.typdefault, '') || COALESCE((SELECT string_agg(' CONSTRAINT ' || quote_ident(conname) || ' ' ||
				pg_get_constraintdef(oid), '') FROM pg_constraint WHERE contypid = t.oid AND contype = 'c'), '')
		FROM pg_type t WHERE ` + here("t.typnamespace", "t.oid") + ` AND t.typtype = 'd' ORDER BY 1`},
	{"sequence", true, `SELECT s.relname, pg_get_userbyid(s.relowner), format('CREATE SEQUENCE %I AS %s INCREMENT BY %s MINVALUE %s
			MAXVALUE %s START WITH %s CACHE %s %s', s.relname, format_type(q.seqtypid, NULL), q.seqincrement, q.seqmin, q.seqmax,
			COALESCE(pg_sequence_last_value(s.oid) + q.seqincrement, q.seqstart), q.seqcache,
			CASE WHEN q.seqcycle THEN 'CYCLE' ELSE 'NO CYCLE' END)
		FROM pg_class s JOIN pg_sequence q ON q.seqrelid = s.oid WHERE ` + here("s.relnamespace", "s.oid") + ` AND s.relkind = 'S'
		AND NOT EXISTS (SELECT FROM pg_depend WHERE objid = s.oid AND deptype IN ('a', 'i')) ORDER BY 1`},
	{"function", false, `SELECT proname, pg_get_userbyid(proowner), pg_get_functiondef(p.oid) FROM pg_proc p
		WHERE ` + here("pronamespace", "p.oid") + ` AND prokind IN ('f', 'w')
		AND NOT EXISTS (SELECT FROM pg_depend WHERE objid = p.oid AND deptype = 'i') ORDER BY p.oid`}, // those of types come with them
	{"procedure", false, `SELECT proname, pg_get_userbyid(proowner), pg_get_functiondef(p.oid) FROM pg_proc p
		WHERE ` + here("pronamespace", "p.oid") + ` AND prokind = 'p' ORDER BY p.oid`},
	{"aggregate", false, `SELECT proname, pg_get_userbyid(proowner), 'CREATE AGGREGATE ' || quote_ident(proname) FROM pg_proc p
		WHERE ` + here("pronamespace", "p.oid") + ` AND prokind = 'a' ORDER BY 1`},
	{"view", false, `SELECT relname, pg_get_userbyid(relowner), 'CREATE VIEW ' || quote_ident(relname) || COALESCE(' WITH (' ||
			array_to_string(reloptions, ', ') || ')', '') || ' AS ' || rtrim(pg_get_viewdef(c.oid), ';')
		FROM pg_class c WHERE ` + here("relnamespace", "c.oid") + ` AND relkind = 'v' ORDER BY 1`},
	{"materialized view", false, `SELECT relname, pg_get_userbyid(relowner), 'CREATE MATERIALIZED VIEW ' || quote_ident(relname) || ' AS ' ||
			rtrim(pg_get_viewdef(c.oid), ';')
		FROM pg_class c WHERE ` + here("relnamespace", "c.oid") + ` AND relkind = 'm' ORDER BY 1`},
	{"trigger", false, `SELECT tgname, pg_get_userbyid(c.relowner), pg_get_triggerdef(g.oid) FROM pg_trigger g JOIN pg_class c ON c.oid = g.tgrelid
		WHERE NOT tgisinternal AND ` + here("c.relnamespace", "c.oid") + ` ORDER BY c.relname, tgname`},
	{"rule", false, `SELECT rulename, pg_get_userbyid(c.relowner), 'CREATE RULE ' || quote_ident(rulename) FROM pg_rewrite r JOIN pg_class c
		ON c.oid = r.ev_class WHERE ` + here("c.relnamespace", "c.oid") + ` AND rulename <> '_RETURN' ORDER BY 1`},
}

// programs are what a database has besides tables.
type programs struct {
	made []*sqltext.Program
	left []sitedb.LeftOut
}

// programs reads all programs, once: what the catalogues say is parsed like a statement from outside.
func (s *snapshot) programs(ctx context.Context) (*programs, error) {
	if s.made != nil {
		return s.made, nil
	}
	all := &programs{}
	for _, sort := range programSorts {
		err := s.texts(ctx, "list objects of "+s.db.name, sort.list, func(row [][]byte) error {
			g, err := sqltext.Postgres.ParseProgram(row[2], "", all.made)
			if err != nil {
				all.left = append(all.left, sitedb.LeftOut{What: sort.what + " " + string(row[0]), Reason: err.Error()})
				return nil
			}
			all.made = append(all.made, g)
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	s.made = all
	return all, nil
}

// first returns the programs that tables may need.
func (s *snapshot) first(ctx context.Context) (out []*sqltext.Program, err error) {
	all, err := s.programs(ctx)
	if err != nil {
		return nil, err
	}
	for _, g := range all.made {
		if g.First() {
			out = append(out, g)
		}
	}
	return out, nil
}

// Programs implements Snapshot. A program is left out when it is not understood to its end.
func (s *snapshot) Programs(ctx context.Context, tables []sitedb.Table) ([]*sqltext.Program, []sitedb.LeftOut, error) {
	all, err := s.programs(ctx)
	if err != nil {
		return nil, nil, err
	}
	packed := func(g *sqltext.Program) bool { // the packing list may leave views out
		return g.Type != "view" && g.Type != "materialized view" ||
			slices.ContainsFunc(tables, func(t sitedb.Table) bool { return t.Name == g.Name })
	}
	out := slices.DeleteFunc(slices.Clone(all.made), func(g *sqltext.Program) bool { return !packed(g) })
	return sqltext.SortPrograms(out), all.left, nil
}
