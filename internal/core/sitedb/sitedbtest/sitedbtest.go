// Package sitedbtest holds what every engine of databases has to do, as tests against the real thing.
package sitedbtest

import (
	"context"
	"fmt"
	"hash/crc32"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/sitedb"
	"nestseed/internal/core/sqltext"
	"nestseed/test/attack"
)

// Engine is what is tested.
type Engine struct {
	Server sitedb.Server
	// Schema makes the table every, with a key id, a text t, bytes b, a number n and whatever types the engine has besides, and its rows,
	// the table other with a reference to it, and something that is program.
	Schema []string
	// Run runs statements as somebody who may, with the engine's own client.
	Run func(t *testing.T, database, script string)
	// Query returns what the engine's own client prints.
	Query func(t *testing.T, database, query string) string
	// LeftOut are the programs of Schema that are not taken over.
	LeftOut []string
	// Accounts says that databases have accounts.
	Accounts bool
}

const (
	user     = "ns_alder"
	password = `it's \ "secret"`
)

// Database makes a database with its account, and takes both away at the end.
func (e Engine) Database(t *testing.T, name string) sitedb.DB {
	t.Helper()
	ctx := context.Background()
	require.NoError(t, e.Server.CreateDatabase(ctx, name))
	t.Cleanup(func() { require.NoError(t, e.Server.DropDatabase(ctx, name)) })
	account := user + name[len(name)-1:]
	require.NoError(t, e.Server.CreateUser(ctx, account, password, name))
	t.Cleanup(func() { require.NoError(t, e.Server.DropUser(ctx, account)) })
	db, err := e.Server.OpenAs(ctx, name, account, password)
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	return db
}

// Run runs all tests.
func Run(t *testing.T, e Engine) {
	t.Run("what is read is what is loaded", e.roundTrip)
	t.Run("the engine's own client restores it", e.byHand)
	t.Run("values are looked up and changed", e.changes)
	t.Run("a snapshot is of one moment", e.snapshot)
	t.Run("names and values are never words", e.quoting)
	t.Run("only tables are read of a site", e.guarded)
	if e.Accounts {
		t.Run("an account reaches its own database", e.accounts)
	}
}

func tableNamed(t *testing.T, db sitedb.Reader, name string) *sitedb.Table {
	t.Helper()
	tables, err := db.Tables(context.Background())
	require.NoError(t, err)
	for i := range tables {
		if tables[i].Name == name {
			return &tables[i]
		}
	}
	require.FailNow(t, "there is no table "+name)
	return nil
}

func allRows(t *testing.T, db sitedb.Reader, table *sitedb.Table) (out [][][]byte) {
	t.Helper()
	snap, err := db.Snapshot(context.Background())
	require.NoError(t, err)
	defer snap.Close()
	require.NoError(t, snap.Rows(context.Background(), table, func(row [][]byte) error {
		kept := make([][]byte, len(row))
		for i, c := range row {
			if c != nil {
				kept[i] = append([]byte{}, c...)
			}
		}
		out = append(out, kept)
		return nil
	}))
	return out
}

// tablesOf are the names of a database's tables.
func tablesOf(t *testing.T, db sitedb.Reader) (names []string) {
	t.Helper()
	all, err := db.Tables(context.Background())
	require.NoError(t, err)
	for _, table := range all {
		if !table.View {
			names = append(names, table.Name)
		}
	}
	return names
}

// programsOf are a database's programs, and how many are left out.
func programsOf(t *testing.T, db sitedb.Reader) ([]*sqltext.Program, []sitedb.LeftOut) {
	t.Helper()
	ctx := context.Background()
	snap, err := db.Snapshot(ctx)
	require.NoError(t, err)
	defer snap.Close()
	all, err := db.Tables(ctx)
	require.NoError(t, err)
	programs, left, err := snap.Programs(ctx, all)
	require.NoError(t, err)
	return programs, left
}

// script is a database as a release holds it: what comes before the rows, the rows, and what comes behind them.
func script(t *testing.T, db sitedb.Reader) (schema, rows, behind string) {
	t.Helper()
	ctx := context.Background()
	v, err := db.Version(ctx)
	require.NoError(t, err)
	d := sqltext.DialectOf(v.Engine)
	programs, _ := programsOf(t, db)
	snap, err := db.Snapshot(ctx)
	require.NoError(t, err)
	defer snap.Close()
	first, later := sqltext.Apart(programs)
	var head, out, after strings.Builder
	head.WriteString(d.Head() + d.Script(first))
	for _, name := range tablesOf(t, db) {
		table := tableNamed(t, db, name)
		def, err := snap.Definition(ctx, table)
		require.NoError(t, err)
		head.WriteString(def.Text(nil) + ";\n")
		for _, c := range def.Constraints {
			after.WriteString(c.Text(nil) + ";\n")
		}
		require.NoError(t, snap.Rows(ctx, table, func(row [][]byte) error {
			fmt.Fprintf(&out, "INSERT INTO %s (", d.Quote(name))
			for i, c := range table.Stored() {
				out.WriteString([]string{"", ","}[min(i, 1)] + d.Quote(c))
			}
			out.WriteString(") VALUES\n(")
			stored := 0
			for _, c := range table.Columns {
				if c.Generated {
					continue
				}
				cell := row[stored]
				out.WriteString([]string{"", ","}[min(stored, 1)])
				switch stored++; {
				case cell == nil:
					out.WriteString("NULL")
				case c.Numeric && sqltext.IsNumber(cell):
					out.Write(cell)
				case c.Binary:
					out.Write(d.AppendBinary(nil, cell))
				default:
					out.Write(d.AppendText(nil, cell))
				}
			}
			out.WriteString(");\n")
			return nil
		}))
	}
	return head.String(), out.String(), after.String() + d.Tail() + d.Script(later)
}

func (e Engine) filled(t *testing.T, name string) sitedb.DB {
	t.Helper()
	db := e.Database(t, name)
	e.Run(t, name, strings.Join(e.Schema, ";\n")+";\n")
	return db
}

func (e Engine) roundTrip(t *testing.T) {
	ctx := context.Background()
	from := e.filled(t, "lad_a")
	to := e.Database(t, "lad_b")
	rename := func(name string) string { return "av_" + name }
	schema, rows, behind := script(t, from)
	dialect := sqltext.DialectOf(version(t, from))

	// Definitions are read from the script as from an archive; rows too.
	d := &sqltext.Definitions{Dialect: dialect}
	require.NoError(t, d.Read([]byte(schema)), schema)
	require.NoError(t, d.Read([]byte(behind)), behind)
	loader, err := to.Loader(ctx)
	require.NoError(t, err)
	defer loader.Close()
	first, later := sqltext.Apart(sqltext.SortPrograms(d.Programs))
	create := func(programs []*sqltext.Program) {
		for _, g := range programs {
			require.NoError(t, loader.CreateProgram(ctx, g, rename), g.Text(rename))
		}
	}
	create(first)
	for _, def := range d.Tables {
		require.NoError(t, loader.CreateTable(ctx, def, rename), def.Text(nil))
	}
	load(t, dialect, loader, rows, rename)
	for _, f := range d.Foreign {
		require.NoError(t, loader.AddForeignKey(ctx, f, rename))
	}
	create(later)
	for _, name := range tablesOf(t, from) {
		was, is := tableNamed(t, from, name), tableNamed(t, to, "av_"+name)
		require.Equal(t, allRows(t, from, was), allRows(t, to, is), name)
		require.Equal(t, was.Columns, is.Columns)
		require.Equal(t, []string{"id"}, was.PrimaryKey)
		require.Equal(t, was.PrimaryKey, is.PrimaryKey)
		e.sameSums(t, from, loader, was, is)
	}
	programs, left := programsOf(t, from)
	again, none := programsOf(t, to)
	require.Equal(t, texts(programs, rename), texts(again, nil), "programs are as they were")
	require.NotEmpty(t, programs)
	require.Empty(t, none, "what was made is understood again")
	require.Equal(t, e.LeftOut, names(left))
	// The next automatic number is none that is there.
	id, err := to.Insert(ctx, "av_other", map[string]string{"every": "1"})
	require.NoError(t, err)
	require.Greater(t, id, int64(1))
}

// texts are the statements that make programs, in order.
func texts(programs []*sqltext.Program, rename sitedb.Rename) (out []string) {
	for _, g := range programs {
		out = append(out, g.Text(rename))
	}
	slices.Sort(out)
	return out
}

func names(left []sitedb.LeftOut) (out []string) {
	for _, l := range left {
		out = append(out, l.What)
	}
	return out
}

func version(t *testing.T, db sitedb.Reader) string {
	v, err := db.Version(context.Background())
	require.NoError(t, err)
	return v.Engine
}

// load sends the rows of a script to a loader, statement by statement.
func load(t *testing.T, d *sqltext.Dialect, loader sitedb.Loader, text string, rename func(string) string) {
	t.Helper()
	sc := d.NewScanner(strings.NewReader(text), 1<<20)
	for sc.Scan() {
		ins, err := d.ParseInsert(sc.Statement())
		require.NoError(t, err)
		var row []sqltext.Literal
		n, err := loader.Load(context.Background(), sitedb.Into{Table: rename(ins.Table), Columns: ins.Columns, UTF8Only: true}, func() ([][]byte, error) {
			if !ins.Next(&row) {
				require.NoError(t, ins.Err())
				return nil, io.EOF
			}
			out := make([][]byte, len(row))
			for i, lit := range row {
				if !lit.IsNull() {
					if out[i], err = lit.AppendValue([]byte{}); err != nil {
						return nil, err
					}
				}
			}
			return out, nil
		})
		require.NoError(t, err, string(sc.Statement()))
		require.Equal(t, int64(1), n)
	}
	require.NoError(t, sc.Err())
}

// sameSums compares what a loader says of a table with what was read, and with what the source's server says.
func (e Engine) sameSums(t *testing.T, from sitedb.DB, loader sitedb.Loader, was, is *sitedb.Table) {
	t.Helper()
	ctx := context.Background()
	summed, err := loader.Summed(ctx)
	require.NoError(t, err)
	columns := summed[is.Name]
	want := make([]uint64, len(columns))
	place := map[string]int{}
	for i, c := range was.Stored() {
		place[c] = i
	}
	for _, row := range allRows(t, from, was) {
		for i, c := range columns {
			if cell := row[place[c]]; cell != nil {
				want[i] += uint64(crc32.ChecksumIEEE(cell))
			}
		}
	}
	got, err := loader.Sums(ctx, is.Name, columns, true)
	require.NoError(t, err)
	require.Equal(t, want, got)
	var plain []sitedb.Column
	for _, c := range was.Columns {
		if c.Plain() {
			plain = append(plain, c)
		}
	}
	snap, err := from.Snapshot(ctx)
	require.NoError(t, err)
	defer snap.Close()
	before, err := snap.PlainSums(ctx, was.Name, plain)
	require.NoError(t, err)
	after, err := loader.PlainSums(ctx, is.Name, plain)
	require.NoError(t, err)
	require.Equal(t, before, after)
	require.NotEmpty(t, plain)
}

func (e Engine) byHand(t *testing.T) {
	from := e.filled(t, "lad_a")
	to := e.Database(t, "lad_b")
	schema, rows, behind := script(t, from)
	e.Run(t, "lad_b", schema+rows+behind)
	for _, name := range tablesOf(t, from) {
		require.Equal(t, allRows(t, from, tableNamed(t, from, name)), allRows(t, to, tableNamed(t, to, name)))
	}
}

// A site that was broken into has a view where its table of options was.
func (e Engine) guarded(t *testing.T) {
	ctx := context.Background()
	db := sitedb.Guard(e.filled(t, "lad_g"))
	_, found, err := db.Lookup(ctx, "every", "id", "1", "t")
	require.NoError(t, err)
	require.True(t, found)
	e.Run(t, "lad_g", "CREATE VIEW options AS SELECT id, t FROM every;")
	none := func([][]byte) error { return nil }
	_, _, err = db.Lookup(ctx, "options", "id", "1", "t")
	require.ErrorIs(t, err, sitedb.ErrNotTable)
	require.ErrorIs(t, db.Select(ctx, "options", []string{"t"}, "", nil, none), sitedb.ErrNotTable)
	view, table := &sitedb.Table{Name: "options"}, tableNamed(t, db, "every")
	_, err = db.Groups(ctx, view, "t", 5)
	require.ErrorIs(t, err, sitedb.ErrNotTable)
	_, err = db.RelatedGroups(ctx, table, "t", view, "id", "id")
	require.ErrorIs(t, err, sitedb.ErrNotTable)
	require.NoError(t, db.Select(ctx, "every", []string{"t"}, "", nil, none))
	_, _, err = db.Lookup(ctx, "nowhere", "id", "1", "t")
	require.NotErrorIs(t, err, sitedb.ErrNotTable, "what is not there is told as ever")
	if b, is := e.filled(t, "lad_h").(sitedb.Bounded); is {
		beyond, err := b.Beyond(ctx)
		require.NoError(t, err)
		require.Empty(t, beyond, "its own account reads its own database alone")
	}
	attack.Stopped(t, "a view for a table, "+e.title(t), "each way of reading a table of a site", "names are proved to be those of tables before they are read")
}

func (e Engine) title(t *testing.T) string {
	v, err := e.Server.Version(context.Background())
	require.NoError(t, err)
	return v.Engine
}

func (e Engine) changes(t *testing.T) {
	ctx := context.Background()
	db := e.filled(t, "lad_a")
	const value = "it's \\ \"new\" % _ ß 🎻\nsecond line"
	require.NoError(t, db.SetValue(ctx, "every", "id", "1", "t", value))
	got, found, err := db.Lookup(ctx, "every", "id", "1", "t")
	require.NoError(t, err)
	require.True(t, found)
	require.Equal(t, value, got)
	require.NoError(t, db.SetValue(ctx, "every", "id", "1", "b", "bytes \x00\xff"))
	got, _, err = db.Lookup(ctx, "every", "id", "1", "b")
	require.NoError(t, err)
	require.Equal(t, "bytes \x00\xff", got)
	_, found, err = db.Lookup(ctx, "every", "id", "4711", "t")
	require.NoError(t, err)
	require.False(t, found)
	_, _, err = db.Lookup(ctx, "nowhere", "id", "1", "t")
	require.Error(t, err)

	id, err := db.Insert(ctx, "other", map[string]string{"every": "1", "note": "a_b"})
	require.NoError(t, err)
	again, err := db.Insert(ctx, "other", map[string]string{"every": "1", "note": "axb"})
	require.NoError(t, err)
	require.Equal(t, id+1, again)
	require.NoError(t, db.DeleteLike(ctx, "other", "note", "a_*"))
	var notes []string
	require.NoError(t, db.Select(ctx, "other", []string{"note"}, "note", []string{"a_b", "axb"}, func(row [][]byte) error {
		notes = append(notes, string(row[0]))
		return nil
	}))
	require.Equal(t, []string{"axb"}, notes, "a line is no pattern")
	require.NoError(t, db.Recount(ctx, sitedb.Recount{Table: "every", Column: "n", Key: "id", Of: "other", By: "every", Where: "note", Is: "axb"}))
	got, _, err = db.Lookup(ctx, "every", "id", "1", "n")
	require.NoError(t, err)
	require.Equal(t, "1", got)
	require.NoError(t, db.SetColumn(ctx, "other", "note", "same"))
	groups, err := db.Groups(ctx, tableNamed(t, db, "other"), "note", 10)
	require.NoError(t, err)
	require.Len(t, groups, 1)
	require.Equal(t, "same", groups[0].Value)
	related, err := db.RelatedGroups(ctx, tableNamed(t, db, "other"), "every", tableNamed(t, db, "every"), "id", "n")
	require.NoError(t, err)
	require.NotEmpty(t, related)
	e.copies(t, db)
	require.NoError(t, db.Empty(ctx, "other"))
	require.Empty(t, allRows(t, db, tableNamed(t, db, "other")))
}

// copies takes rows over from one table to another: an empty text that comes first is one there too.
func (e Engine) copies(t *testing.T, db sitedb.DB) {
	ctx := context.Background()
	few := *tableNamed(t, db, "other")
	few.Columns = slices.DeleteFunc(slices.Clone(few.Columns), func(c sitedb.Column) bool { return c.Name != "note" })
	few.PrimaryKey = nil
	require.NoError(t, db.SetColumn(ctx, "other", "note", ""))
	snap, err := db.Snapshot(ctx)
	require.NoError(t, err)
	to := e.filled(t, "lad_c")
	require.NoError(t, to.Empty(ctx, "other"))
	loader, err := to.Loader(ctx)
	require.NoError(t, err)
	defer loader.Close()
	n, err := sitedb.CopyRows(ctx, snap, &few, loader, tableNamed(t, to, "other"), nil)
	require.NoError(t, err)
	require.Positive(t, n)
	snap.Close() // what is read holds what changes up
	for _, row := range allRows(t, to, tableNamed(t, to, "other")) {
		require.Equal(t, []byte{}, row[2])
	}
}

func (e Engine) snapshot(t *testing.T) {
	ctx := context.Background()
	db := e.filled(t, "lad_a")
	table := tableNamed(t, db, "other")
	snap, err := db.Snapshot(ctx)
	require.NoError(t, err)
	before := 0
	require.NoError(t, snap.Rows(ctx, table, func([][]byte) error { before++; return nil }))
	if e.Accounts { // a database that is a file is a copy
		_, err = db.Insert(ctx, "other", map[string]string{"every": "1", "note": "later"})
		require.NoError(t, err)
	}
	after := 0
	require.NoError(t, snap.Rows(ctx, table, func([][]byte) error { after++; return nil }))
	require.Equal(t, before, after)
	stop := fmt.Errorf("enough")
	require.ErrorIs(t, snap.Rows(ctx, table, func([][]byte) error { return stop }), stop)
	require.NoError(t, snap.Close())
	require.NotEmpty(t, allRows(t, db, table), "the database is there after a reading that was stopped")
}

func (e Engine) quoting(t *testing.T) {
	ctx := context.Background()
	db := e.filled(t, "lad_a")
	for _, evil := range []string{"'; DROP TABLE every; --", `"; DROP TABLE every; --`, "`; DROP TABLE every; --", `\'; DROP TABLE every; --`, "$$"} {
		require.NoError(t, db.SetValue(ctx, "every", "id", "1", "t", evil))
		got, _, err := db.Lookup(ctx, "every", "t", evil, "t")
		require.NoError(t, err)
		require.Equal(t, evil, got)
		require.Error(t, db.SetValue(ctx, evil, "id", "1", "t", "x"))
		require.Error(t, db.SetValue(ctx, "every", evil, "1", "t", "x"))
		_, err = db.Insert(ctx, "other", map[string]string{evil: "1"})
		require.Error(t, err)
		require.NoError(t, db.DeleteLike(ctx, "other", "note", evil))
	}
	require.NotEmpty(t, allRows(t, db, tableNamed(t, db, "every")))
}

func (e Engine) accounts(t *testing.T) {
	ctx := context.Background()
	e.Database(t, "lad_a")
	e.Database(t, "lad_b")
	require.ErrorIs(t, e.Server.CreateDatabase(ctx, "lad_a"), sitedb.ErrExists)
	require.ErrorIs(t, e.Server.CreateUser(ctx, user+"a", password, "lad_a"), sitedb.ErrExists)
	there, err := e.Server.DatabaseExists(ctx, "lad_a")
	require.NoError(t, err)
	require.True(t, there)
	_, err = e.Server.OpenAs(ctx, "lad_b", user+"a", password)
	require.Error(t, err, "another's database")
	_, err = e.Server.OpenAs(ctx, "lad_a", user+"a", "wrong")
	require.ErrorIs(t, err, sitedb.ErrDenied)

	// Another account takes the place of the first, and owns what it made.
	first, err := e.Server.OpenAs(ctx, "lad_a", user+"a", password)
	require.NoError(t, err)
	e.Run(t, "lad_a", strings.Join(e.Schema, ";\n")+";\n")
	require.NoError(t, first.Close())
	require.NoError(t, e.Server.CreateUser(ctx, "ns_next", "seven scales", "lad_a"))
	defer e.Server.DropUser(ctx, "ns_next")
	require.NoError(t, e.Server.DropUser(ctx, user+"a"))
	next, err := e.Server.OpenAs(ctx, "lad_a", "ns_next", "seven scales")
	require.NoError(t, err)
	defer next.Close()
	require.NoError(t, next.SetValue(ctx, "every", "id", "1", "t", "still mine"))
	require.NoError(t, next.Empty(ctx, "other"))
}

// Client runs an engine's own client with a script, and returns what it prints.
func Client(t *testing.T, environment []string, script string, command ...string) string {
	t.Helper()
	file := filepath.Join(t.TempDir(), "script.sql")
	require.NoError(t, os.WriteFile(file, []byte(script), 0o600))
	in, err := os.Open(file)
	require.NoError(t, err)
	defer in.Close()
	cmd := exec.Command(command[0], command[1:]...)
	cmd.Env, cmd.Stdin = append(os.Environ(), environment...), in
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s\n%s", out, script)
	return string(out)
}
