package provision

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/demo/stack"
	"nestseed/internal/core/check"
	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/progress"
	"nestseed/internal/core/sitedb"
	_ "nestseed/internal/core/sitedb/engines"
)

// killedEverywhere kills the work before every step and before everything it makes, takes back what the journal says,
// and compares files and rows. At last it lets it end, and takes it back all the same. It returns how many points
// there were.
func (w *world) killedEverywhere(t *testing.T, req Request, plan *Plan, before string, done func()) int {
	t.Helper()
	ctx, database := context.Background(), req.Replace.Database
	stride := 3 // the first, the fourth and so on; all with KILLS=all
	if os.Getenv("KILLS") == "all" {
		stride = 1
	}
	for at := 1; ; at += stride {
		d := &deadly{at: at, dead: make(chan struct{})}
		ended := make(chan error, 1)
		go func() {
			_, err := Make(ctx, req, plan, d, d)
			ended <- err
		}()
		var err error
		finished := false
		select {
		case <-d.dead: // nothing of the killed work runs on
		case err = <-ended:
			finished = true
		}
		require.NoError(t, err)
		if finished {
			done()
		}
		require.NoError(t, Undo(ctx, w.fs, w.server, d.made, ours), "%s", d.where)
		require.NoError(t, Undo(ctx, w.fs, w.server, d.made, ours), "undoing twice is no error")
		require.Equal(t, before, w.standing(t, req.Folder, database), "killed at: %s", d.where)
		w.noneBeside(t, req.Folder, plan)
		if finished {
			return at
		}
	}
}

// small is a disk that is full after so many bytes.
type small struct {
	hostfs.FS
	left *atomic.Int64
}

func (s *small) Sub(ctx context.Context, folder string) (hostfs.FS, error) {
	sub, err := s.FS.Sub(ctx, folder)
	return &small{sub, s.left}, err
}

func (s *small) MakeSub(ctx context.Context, folder string) (hostfs.FS, error) {
	sub, err := s.FS.MakeSub(ctx, folder)
	return &small{sub, s.left}, err
}

type smallFile struct {
	io.WriteCloser
	disk *small
}

func (s *small) Create(ctx context.Context, name string, mode fs.FileMode) (io.WriteCloser, error) {
	f, err := s.FS.Create(ctx, name, mode)
	return smallFile{f, s}, err
}

func (f smallFile) Write(b []byte) (int, error) {
	if f.disk.left.Add(-int64(len(b))) < 0 {
		return 0, syscall.ENOSPC
	}
	return f.WriteCloser.Write(b)
}

// starved lets the disk be full at the beginning, in the middle and just before the end.
func (w *world) starved(t *testing.T, req Request, plan *Plan, before string) {
	t.Helper()
	for _, room := range []int64{1 << 10, plan.Bytes / 2, plan.Bytes - 1<<20} {
		disk := &small{w.fs, &atomic.Int64{}}
		disk.left.Store(room)
		full := req
		full.FS = disk
		_, err := Make(context.Background(), full, plan, &ledger{}, progress.Discard)
		require.ErrorIs(t, err, syscall.ENOSPC)
		require.Equal(t, before, w.standing(t, req.Folder, req.Replace.Database))
		w.noneBeside(t, req.Folder, plan)
	}
}

// careless is a server that changes a row on its way into a table, as one with another character set may, or that
// loses it: spoil returns false.
type careless struct {
	sitedb.Server
	spoil func(row [][]byte) bool
}

type carelessDB struct {
	sitedb.DB
	spoil func(row [][]byte) bool
}

type carelessLoader struct {
	sitedb.Loader
	spoil func(row [][]byte) bool
}

func (c careless) OpenAs(ctx context.Context, name, user, password string) (sitedb.DB, error) {
	db, err := c.Server.OpenAs(ctx, name, user, password)
	return carelessDB{db, c.spoil}, err
}

func (c carelessDB) Loader(ctx context.Context) (sitedb.Loader, error) {
	l, err := c.DB.Loader(ctx)
	return carelessLoader{l, c.spoil}, err
}

func (c carelessLoader) Load(ctx context.Context, into sitedb.Into, rows sitedb.Rows) (int64, error) {
	if !strings.HasSuffix(into.Table, "_posts") {
		return c.Loader.Load(ctx, into, rows)
	}
	return c.Loader.Load(ctx, into, func() ([][]byte, error) {
		for {
			if row, err := rows(); err != nil || c.spoil(row) {
				return row, err
			}
		}
	})
}

// spoilt: what a server did not keep as it was loaded is found out before the site is there for anyone.
func (w *world) spoilt(t *testing.T, req Request) {
	rows := 0
	for _, c := range []struct {
		spoil func([][]byte) bool
		says  string
	}{
		{func(row [][]byte) bool {
			for i := range row {
				if bytes.Contains(row[i], []byte("lesson")) { // an empty text stays one, and no NULL
					row[i] = bytes.Replace(row[i], []byte("lesson"), []byte("le?son"), 1)
				}
			}
			return true
		}, "does not hold what was loaded into it"},
		{func([][]byte) bool { first := rows == 0; rows++; return !first }, "verify release music-base@1"},
	} {
		req.Server = careless{w.server, c.spoil}
		plan, err := Prepare(t.Context(), req)
		require.NoError(t, err)
		require.True(t, plan.Ready(), plan.Problems)
		journal := &ledger{}
		_, err = Make(t.Context(), req, plan, journal, progress.Discard)
		require.ErrorContains(t, err, c.says)
		require.NoError(t, Undo(t.Context(), req.FS, req.Server, journal.made, ours))
		w.nothingLeft(t, req.Name)
	}
}

// withoutDatabase cuts the connection to the server at every step: for a moment, and for good.
func (w *world) withoutDatabase(t *testing.T, req Request, plan *Plan, before string) {
	t.Helper()
	ctx := context.Background()
	for _, forever := range []bool{false, true} {
		for _, step := range []string{"Make the database", "Place files and load rows", "Set values", "Adapt to the new address"} {
			line, err := stack.NewLine(w.stack.DatabasePort)
			require.NoError(t, err)
			server, err := sitedb.Connect(strings.Replace(w.stack.DatabaseURL(), fmt.Sprintf(":%d/", w.stack.DatabasePort),
				fmt.Sprintf(":%d/", line.Port()), 1))
			require.NoError(t, err)
			cut := req
			cut.Server = server
			journal := &ledger{}
			_, err = Make(ctx, cut, plan, journal, onStep{step, func() { line.Cut(forever) }})
			if forever {
				require.ErrorIs(t, err, ErrLeftBehind, step)
				require.NoError(t, Undo(ctx, w.fs, w.server, journal.made, ours), "the journal tells what to take back when the server is there again")
			} else if err == nil { // what was under way had its answers, and all later work a new connection
				require.NoError(t, Undo(ctx, w.fs, w.server, journal.made, ours))
			}
			require.Equal(t, before, w.standing(t, req.Folder, req.Replace.Database), step)
			w.noneBeside(t, req.Folder, plan)
			server.Close()
			line.Close()
		}
	}
}

// onStep is a reporter that does something when a step begins.
type onStep struct {
	title string
	do    func()
}

func (o onStep) Step(title string, _ progress.Amount) {
	if title == o.title {
		o.do()
	}
}
func (onStep) Add(progress.Amount) {}
func (onStep) Note(string)         {}

// refreshing gives a site the code of a release whose tables are of a later version, and kills it everywhere.
func (w *world) refreshing(t *testing.T, req Request, before string) {
	t.Helper()
	ctx := context.Background()
	versions := filepath.Join(w.stack.Sites(), "base", "wp-includes/version.php")
	text, err := os.ReadFile(versions)
	require.NoError(t, err)
	number := regexp.MustCompile(`wp_db_version = (\d+)`).FindSubmatch(text)
	require.NotNil(t, number)
	n, err := strconv.Atoi(string(number[1]))
	require.NoError(t, err)
	later := strconv.Itoa(n + 1)
	require.NoError(t, os.WriteFile(versions, []byte(strings.Replace(string(text), string(number[1]), later, 1)), 0o644))
	extension := filepath.Join(w.stack.Sites(), "base", "wp-content/plugins/recital.php")
	require.NoError(t, os.WriteFile(extension, []byte("<?php\n/* Plugin Name: Recital */\n$home = '"+w.stack.Address("base")+"';\n"), 0o644))
	fresh, _ := w.build(t, 2)
	require.NoError(t, os.WriteFile(versions, text, 0o644))
	require.NoError(t, os.Remove(extension))

	was := req.Archive
	req.Archive, req.Refresh, req.RunID = fresh, &Refresh{Was: was}, "9"
	req.Replace.Keep = nil
	req.Visit = func(ctx context.Context, address, page string) (int, []byte, error) {
		return check.Visit(ctx, check.Reach{Address: address, Private: true}, page)
	}
	plan, err := Prepare(ctx, req)
	require.NoError(t, err)
	require.True(t, plan.Ready(), plan.Problems)
	require.Equal(t, []UnitChange{{Unit: "wp-content/plugins/recital.php", Added: 1}, {Unit: "wp-includes", Changed: 1}}, plan.Refresh.Units)
	require.Empty(t, plan.Refresh.Edited)
	require.Equal(t, req.Replace.Prefix, plan.Prefix)
	db, err := w.stack.Admin()
	require.NoError(t, err)
	defer db.Close()
	for _, visit := range []func(context.Context, string, string) (int, []byte, error){
		func(context.Context, string, string) (int, []byte, error) { return 500, []byte("no"), nil },
		func(context.Context, string, string) (int, []byte, error) { return 0, nil, syscall.ECONNREFUSED },
	} {
		deaf := req
		deaf.Visit = visit
		_, err := Make(ctx, deaf, plan, &ledger{}, progress.Discard)
		require.ErrorContains(t, err, "bring tables to the version of the code")
		require.Equal(t, before, w.standing(t, req.Folder, req.Replace.Database))
		w.noneBeside(t, req.Folder, plan)
	}
	// A site that updates itself at this moment is left alone, and its own pause with it.
	own := filepath.Join(w.stack.Sites(), req.Folder, ".maintenance")
	require.NoError(t, os.WriteFile(own, []byte("<?php $upgrading = 1;"), 0o644))
	_, err = Make(ctx, req, plan, &ledger{}, progress.Discard)
	require.ErrorIs(t, err, ErrPlan)
	require.FileExists(t, own)
	require.NoError(t, os.Remove(own))
	require.Equal(t, before, w.standing(t, req.Folder, req.Replace.Database))
	w.noneBeside(t, req.Folder, plan)
	points := w.killedEverywhere(t, req, plan, before, func() {
		var version string
		require.NoError(t, db.QueryRow(fmt.Sprintf("SELECT option_value FROM %s.%soptions WHERE option_name = 'db_version'", plan.Database,
			plan.Prefix)).Scan(&version))
		require.Equal(t, later, version, "WordPress has brought its tables up to date")
		var comments int
		require.NoError(t, db.QueryRow(fmt.Sprintf("SELECT COUNT(*) FROM %s.%scomments WHERE comment_author = 'A parent'", plan.Database,
			plan.Prefix)).Scan(&comments))
		require.Equal(t, 1, comments)
		added, err := os.ReadFile(filepath.Join(w.stack.Sites(), req.Folder, "wp-content/plugins/recital.php"))
		require.NoError(t, err)
		require.Contains(t, string(added), plan.Address)
		require.NoFileExists(t, filepath.Join(w.stack.Sites(), req.Folder, ".maintenance"))
		status, _, err := req.Visit(ctx, plan.Address, "")
		require.NoError(t, err)
		require.Equal(t, 200, status)
	})
	require.Greater(t, points, 10)

	// What the release does not have stays; what somebody changed on the site is named; no site goes back.
	own = filepath.Join(w.stack.Sites(), req.Folder, "wp-content/plugins/own")
	require.NoError(t, os.MkdirAll(own, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(own, "own.php"), []byte("<?php"), 0o644))
	edited := filepath.Join(w.stack.Sites(), req.Folder, "wp-login.php")
	kept, err := os.ReadFile(edited)
	require.NoError(t, err)
	info, err := os.Stat(edited)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(edited, append(kept, '\n'), 0o644))
	fresh.Manifest.Version = "5.0"
	plan, err = Prepare(ctx, req)
	require.NoError(t, err)
	require.Equal(t, []string{"wp-content/plugins/own"}, plan.Refresh.Stays)
	require.Equal(t, []string{"wp-login.php"}, plan.Refresh.Edited)
	require.Contains(t, strings.Join(plan.Problems, " "), "does not go back")
	require.NoError(t, os.RemoveAll(own))
	require.NoError(t, os.WriteFile(edited, kept, info.Mode()))
}

// deadly is a journal and a reporter that stops the work for ever at its n-th call, as a kill does.
type deadly struct {
	ledger
	at, calls int
	where     string
	dead      chan struct{}
}

func (d *deadly) call(where string) {
	if d.calls++; d.calls == d.at {
		d.where = where
		close(d.dead)
		select {}
	}
}

func (d *deadly) Making(ctx context.Context, m Made) error {
	err := d.ledger.Making(ctx, m)
	d.call("about to make " + m.What)
	return err
}
func (d *deadly) Step(title string, _ progress.Amount) { d.call("step " + title) }
func (d *deadly) Add(progress.Amount)                  {}
func (d *deadly) Note(string)                          {}
