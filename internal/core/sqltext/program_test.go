package sqltext

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestProgramsOfPostgresThatReachOutAreRefused(t *testing.T) {
	body := func(text string) string {
		return "CREATE FUNCTION f() RETURNS int LANGUAGE plpgsql AS $$BEGIN " + text + " END$$"
	}
	for _, stmt := range []string{
		"CREATE VIEW v AS SELECT * FROM pg_authid", "CREATE VIEW v AS SELECT * FROM pg_catalog.pg_authid", "CREATE VIEW v AS SELECT * FROM other.t",
		"CREATE VIEW v AS SELECT * FROM information_schema.tables", "CREATE VIEW v AS SELECT pg_read_file('/etc/passwd')",
		"CREATE VIEW v AS SELECT pg_catalog.pg_read_file('/etc/passwd')", `CREATE VIEW v AS SELECT "pg_sleep"(9)`, "CREATE VIEW v AS SELECT other.f(1)",
		"CREATE VIEW v AS SELECT current_setting('x')", "CREATE VIEW v AS SELECT set_config('role', 'postgres', false)",
		"CREATE VIEW v AS SELECT * FROM dblink('host=x', 'SELECT 1') AS t(a int)", "CREATE VIEW v AS SELECT lo_import('/etc/passwd')",
		"CREATE VIEW v AS SELECT nextval('other')", "CREATE VIEW v AS SELECT nextval('a' || 'b')", "CREATE VIEW v AS SELECT 1; DROP TABLE t",
		"CREATE VIEW v AS WITH x AS (DELETE FROM t RETURNING 1) SELECT 1", "CREATE VIEW v WITH (user_catalog_table=true) AS SELECT 1",
		"CREATE VIEW v AS SELECT $1", "CREATE VIEW v AS SELECT 'x'::regclass::other.type", "CREATE VIEW other.v AS SELECT 1",
		"CREATE FUNCTION f() RETURNS int LANGUAGE c AS 'x'", "CREATE FUNCTION f() RETURNS int LANGUAGE plpython3u AS 'x'",
		"CREATE FUNCTION f() RETURNS int LANGUAGE internal AS 'pg_read_file'", "CREATE FUNCTION f() RETURNS int AS 'SELECT 1'",
		"CREATE FUNCTION f() RETURNS int LANGUAGE sql AS 'a.so', 'f'", "CREATE FUNCTION f() RETURNS int LANGUAGE sql SET role TO postgres AS 'SELECT 1'",
		"CREATE FUNCTION f() RETURNS int LANGUAGE sql SET search_path TO other AS 'SELECT 1'", "CREATE FUNCTION f() RETURNS int LANGUAGE sql AS 'SELECT g()'",
		"CREATE FUNCTION f() RETURNS void LANGUAGE sql AS 'COPY t FROM PROGRAM ''id'''",
		"CREATE FUNCTION f() RETURNS void LANGUAGE sql AS 'DROP TABLE t'",
		"CREATE FUNCTION f() RETURNS other.t LANGUAGE sql AS 'SELECT 1'", "CREATE FUNCTION f() RETURNS int LANGUAGE sql AS 'SELECT 1; SET role = x'",
		body("EXECUTE 'DROP TABLE t';"), body("FOR x IN EXECUTE 'SELECT 1' LOOP NULL; END LOOP;"), body("RETURN QUERY EXECUTE 'SELECT 1';"),
		body("PERFORM pg_sleep(9);"), body("role := 'postgres';"), body("SET ROLE postgres;"), body("GRANT ALL ON t TO public;"), body("COMMIT;"),
		body("SELECT 1 INTO other FROM t;"), body("INSERT INTO pg_authid VALUES (1);"), body("CREATE TABLE x (a int);"), body("COPY t TO '/tmp/x';"),
		body("NULL; END; DROP TABLE t; BEGIN"), body("SELECT 1 INTO STRICT x;"), "CREATE FUNCTION f() RETURNS int LANGUAGE plpgsql AS $$BEGIN",
		"CREATE TRIGGER t BEFORE INSERT ON a FOR EACH ROW EXECUTE FUNCTION suppress_redundant_updates_trigger()",
		"CREATE TRIGGER t BEFORE INSERT ON other.a EXECUTE FUNCTION f()", "CREATE EVENT TRIGGER t ON ddl_command_start EXECUTE FUNCTION f()",
		"CREATE EXTENSION dblink", "CREATE EXTENSION file_fdw", "CREATE EXTENSION citext SCHEMA other", "CREATE EXTENSION adminpack",
		"CREATE TYPE t AS (a other.t)", "CREATE TYPE t AS RANGE (SUBTYPE = int, SUBTYPE_DIFF = f)", "CREATE TYPE t",
		"CREATE TYPE t AS RANGE (CANONICAL = f)", "CREATE TYPE t AS (a int); DROP TABLE t", "CREATE TYPE t (INPUT = f, OUTPUT = f)", "CREATE DOMAIN d AS other.t",
		"CREATE DOMAIN d AS text CHECK (pg_sleep(1) IS NULL)", "CREATE SEQUENCE s OWNED BY t.a", "CREATE SEQUENCE s INCREMENT BY 0",
		"CREATE SEQUENCE other.s", "CREATE RULE r AS ON INSERT TO t DO ALSO NOTHING", "CREATE AGGREGATE a (int) (SFUNC = int4pl)", "CREATE USER x",
		"DO $$BEGIN END$$", "CREATE VIEW v AS SELECT 1 /* open", "CREATE VIEW v AS SELECT $a$x",
	} {
		_, err := Postgres.ParseProgram([]byte(stmt), "", []*Program{{Type: "sequence", Name: "mine"}})
		require.ErrorIs(t, err, ErrSyntax, stmt)
	}
}

func TestProgramsOfSQLiteThatReachOutAreRefused(t *testing.T) {
	trigger := func(text string) string { return "CREATE TRIGGER t AFTER INSERT ON a BEGIN " + text + " END" }
	for _, stmt := range []string{
		"CREATE VIEW v AS SELECT load_extension('x')", "CREATE VIEW v AS SELECT readfile('/etc/passwd')", "CREATE VIEW v AS SELECT writefile('x', 'y')",
		"CREATE VIEW v AS SELECT * FROM other.t", "CREATE VIEW v AS SELECT * FROM pragma_database_list()", "CREATE VIEW v AS SELECT 1; SELECT 2",
		"CREATE TEMP VIEW v AS SELECT 1", trigger("ATTACH 'x' AS y;"), trigger("PRAGMA writable_schema = 1;"), trigger("DROP TABLE b;"),
		trigger("SELECT fts3_tokenizer('x');"), trigger("INSERT INTO other.b VALUES (1);"), "CREATE TRIGGER t AFTER INSERT ON a BEGIN SELECT 1;",
		"CREATE VIRTUAL TABLE x USING fts5(a)",
	} {
		_, err := SQLite.ParseProgram([]byte(stmt), "", nil)
		require.ErrorIs(t, err, ErrSyntax, stmt)
	}
}

func TestNamesInProgramsOfPostgresFollowTheirTables(t *testing.T) {
	rename := func(name string) string { return strings.Replace(name, "lad_", "av_", 1) }
	for stmt, want := range map[string]string{
		`CREATE VIEW public.lad_v AS SELECT p.ID, 'lad_' AS "Word", $$it's$$ FROM lad_posts p`: `CREATE VIEW "av_v" AS SELECT "p"."id", E'lad_' AS "Word", ` +
			`E'it\'s' FROM "av_posts" "p"`,
		"CREATE FUNCTION lad_next() RETURNS bigint LANGUAGE sql AS 'SELECT nextval(''lad_ticket'') -- of all'": `CREATE FUNCTION "av_next" () RETURNS bigint ` +
			"LANGUAGE sql AS $body$\nSELECT nextval(E'\"av_ticket\"'::regclass)\n$body$",
		"CREATE FUNCTION f(lad_x lad_posts) RETURNS text SECURITY DEFINER LANGUAGE plpgsql AS 'BEGIN RETURN lad_x.title || ''$body$''; END'": `CREATE ` +
			`FUNCTION "f" ("lad_x" "av_posts") RETURNS text LANGUAGE plpgsql AS $body1$` + "\nBEGIN RETURN \"lad_x\".\"title\" || E'$body$'; END\n$body1$",
	} {
		g, err := Postgres.ParseProgram([]byte(stmt), "", []*Program{{Type: "sequence", Name: "lad_ticket"}})
		require.NoError(t, err, stmt)
		require.Equal(t, want, g.Text(rename))
	}
}

func FuzzPlainProgram(f *testing.F) {
	f.Add([]byte("CREATE VIEW v AS SELECT DISTINCT a.b[1:2], count(*) FILTER (WHERE true) OVER w FROM t a FULL JOIN u USING (x) WHERE a.b ILIKE 'x%'"))
	f.Add([]byte("CREATE FUNCTION f(a int) RETURNS int LANGUAGE plpgsql AS $$DECLARE b int := 1; BEGIN FOR i IN 1..a LOOP b := b + i; END LOOP; RETURN b; END$$"))
	f.Add([]byte("CREATE TRIGGER t AFTER INSERT ON a WHEN NEW.x > 1 BEGIN INSERT OR IGNORE INTO b VALUES (NEW.x); END"))
	f.Fuzz(func(t *testing.T, b []byte) {
		for _, d := range []*Dialect{Postgres, SQLite} {
			g, err := d.ParseProgram(b, "", nil)
			if err != nil {
				continue
			}
			again, err := d.ParseProgram([]byte(g.Text(nil)), "", nil)
			require.NoError(t, err, "%q", g.Text(nil))
			require.Equal(t, g.Text(nil), again.Text(nil))
		}
	})
}
