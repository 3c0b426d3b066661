// Package sqlite works on SQLite databases, which are files in the folders of sites.
//
// A database is never opened where it lies: whoever may change the site could let a name lead elsewhere, and the host may be far. It
// is copied through the handle on the site's folder to a private folder here, and what was changed is put back as a whole.
package sqlite

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"sync"
	"time"

	"github.com/mattn/go-sqlite3"

	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/sitedb"
)

// driver is the name of SQLite's driver with our settings for each connection. A database here is a private copy, so that nothing is lost
// without synchronous writes; what its schema calls is not trusted (SQLite documentation, "PRAGMA trusted_schema").
const driver = "sqlite-copy"

const settings = "PRAGMA foreign_keys = 0; PRAGMA busy_timeout = 20000; PRAGMA synchronous = 0; PRAGMA trusted_schema = 0; " +
	"PRAGMA hard_heap_limit = 201326592"

// limits of what a file of a stranger can have SQLite do (SQLite documentation, "Run-Time Limits"): bytes of a value or row, and how
// expressions, triggers and programs may grow.
var limits = map[int]int{sqlite3.SQLITE_LIMIT_LENGTH: 96 << 20, sqlite3.SQLITE_LIMIT_EXPR_DEPTH: 200,
	sqlite3.SQLITE_LIMIT_VDBE_OP:       2_000_000,
	sqlite3.SQLITE_LIMIT_TRIGGER_DEPTH: 20, sqlite3.SQLITE_LIMIT_ATTACHED: 4, sqlite3.SQLITE_LIMIT_COMPOUND_SELECT: 200}

func init() {
	sql.Register(driver, &sqlite3.SQLiteDriver{ConnectHook: func(c *sqlite3.SQLiteConn) error {
		for limit, most := range limits {
			c.SetLimit(limit, most)
		}
		_, err := c.Exec(settings, nil)
		return err
	}})
	sitedb.Register(sitedb.Engine{Schemes: []string{"sqlite"}, Titles: []string{"SQLite"},
		Drivers: []string{"sqlite", "sqlite3", "pdo_sqlite"},
		Example: "sqlite:", InSite: true, OnFiles: on, Head: "SQLite format 3\x00", // SQLite, "Database File Format", section 1.2
		Connect: func(*url.URL, sitedb.Dial) (sitedb.Server, error) {
			return nil, fmt.Errorf("%w: an SQLite database is a file of its site and has no server", sitedb.ErrUnsupported)
		},
		Address: func(string, string, string) *url.URL { return &url.URL{Scheme: "sqlite"} }})
}

// server is the databases below a host's folder; their names are paths there.
type server struct {
	files   hostfs.FS
	scratch string

	mu   sync.Mutex
	dir  string            // private; made when it is needed
	made map[string]string // databases that were made and not placed yet: where they are here
	n    int
}

func on(files hostfs.FS, scratch string) (sitedb.Server, error) {
	return &server{files: files, scratch: scratch, made: map[string]string{}}, nil
}

func (s *server) Scheme() string      { return "sqlite" }
func (s *server) SiteAddress() string { return "" }

func (s *server) Close() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.dir == "" {
		return nil
	}
	dir := s.dir
	s.dir = ""
	return os.RemoveAll(dir)
}

// fresh returns a new name in the private folder.
func (s *server) fresh() (string, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.dir == "" {
		err := os.MkdirAll(s.scratch, 0o700)
		var dir string
		if err == nil {
			dir, err = os.MkdirTemp(s.scratch, "sqlite-")
		}
		if err != nil {
			return "", err
		}
		s.dir = dir
	}
	s.n++
	return filepath.Join(s.dir, fmt.Sprintf("%d.sqlite", s.n)), nil
}

func (s *server) Version(ctx context.Context) (v sitedb.Version, err error) {
	pool, err := sql.Open(driver, ":memory:")
	if err != nil {
		return v, err
	}
	defer pool.Close()
	v = sitedb.Version{Engine: "SQLite", Charset: "UTF-8"}
	return v, pool.QueryRowContext(ctx, "SELECT sqlite_version()").Scan(&v.Number)
}

func (s *server) Facts(context.Context) (sitedb.Facts, error) {
	return sitedb.Facts{StatementBytes: 1 << 30, Charset: "UTF-8", Now: time.Now()}, nil
}

// DatabaseExists implements Server: the plan has looked whether the site's folder is there.
func (s *server) DatabaseExists(context.Context, string) (bool, error) { return false, nil }
func (s *server) UserExists(context.Context, string) (bool, error)     { return false, nil }
func (s *server) CreateUser(_ context.Context, _, _, _ string) error   { return nil }
func (s *server) DropUser(context.Context, string) error               { return nil }

// CreateDatabase makes a database here; Place puts it into its site.
func (s *server) CreateDatabase(_ context.Context, name string) error {
	file, err := s.fresh()
	if err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.made[name] != "" {
		return sitedb.ErrExists
	}
	s.made[name] = file
	return nil
}

// File is where a database that was made lies here, until it is placed.
func (s *server) File(name string) string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.made[name]
}

// DropDatabase forgets what was made here. What lies in a site goes with its folder.
func (s *server) DropDatabase(_ context.Context, name string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if file := s.made[name]; file != "" {
		delete(s.made, name)
		return ignoreMissing(os.Remove(file))
	}
	return nil
}

func ignoreMissing(err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// Place implements sitedb.Placer.
func (s *server) Place(ctx context.Context, name string, site hostfs.FS, file string) error {
	s.mu.Lock()
	from := s.made[name]
	s.mu.Unlock()
	if from == "" {
		return fmt.Errorf("the database %s was not made here", name)
	}
	return put(ctx, from, site, file, 0o640)
}

// put copies a file from here to a new one there.
func put(ctx context.Context, from string, to hostfs.FS, name string, mode fs.FileMode) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := to.Create(ctx, name, mode)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Close())
}

func (s *server) Open(ctx context.Context, name string) (sitedb.DB, error) {
	return s.OpenAs(ctx, name, "", "")
}

// OpenAs implements Server. There are no accounts.
func (s *server) OpenAs(ctx context.Context, name, _, _ string) (sitedb.DB, error) {
	s.mu.Lock()
	file := s.made[name]
	s.mu.Unlock()
	d := &database{server: s, name: name, file: file}
	if file == "" {
		var err error
		if d.file, err = s.fresh(); err != nil {
			return nil, err
		}
		if d.was, err = s.fetch(ctx, name, d.file); err != nil {
			return nil, fmt.Errorf("read the database %s: %w", path.Join(s.files.Root(), name), err)
		}
		d.fetched = true
	}
	pool, err := sql.Open(driver, "file:"+(&url.URL{Path: d.file}).EscapedPath())
	if err != nil {
		return nil, err
	}
	// One connection: what is read and written here is nobody else's, and there is one writer in any case.
	pool.SetMaxOpenConns(4)
	var n int
	if err := pool.QueryRowContext(ctx, "SELECT count(*) FROM sqlite_master").Scan(&n); err != nil {
		pool.Close()
		return nil, fmt.Errorf("the database %s cannot be read: %w", path.Join(s.files.Root(), name), err)
	}
	d.pool = pool
	return d, nil
}

// fetchTries is how often a database is copied that changes while it is.
const fetchTries = 5

// fetch copies a database, with what was not yet written back into it, and says what it was like.
func (s *server) fetch(ctx context.Context, name, to string) (hostfs.Entry, error) {
	site, err := s.files.Sub(ctx, path.Dir(name))
	if err != nil {
		return hostfs.Entry{}, err
	}
	defer site.Close()
	base := path.Base(name)
	for range fetchTries {
		before, err := state(ctx, site, base)
		if err != nil {
			return hostfs.Entry{}, err
		}
		for _, suffix := range parts {
			os.Remove(to + suffix)
			if _, there := before[suffix]; there {
				if err := get(ctx, site, base+suffix, to+suffix); err != nil && !errors.Is(err, fs.ErrNotExist) {
					return hostfs.Entry{}, err
				}
			}
		}
		after, err := state(ctx, site, base)
		if err != nil {
			return hostfs.Entry{}, err
		}
		same := len(before) == len(after)
		for suffix, e := range before {
			same = same && e == after[suffix]
		}
		if same {
			return before[""], nil
		}
	}
	return hostfs.Entry{}, errors.New("it changes while it is read; try again when the site is quiet")
}

// parts are the suffixes of a database's files: itself, and what is not yet written into it (SQLite documentation, "Temporary Files").
var parts = []string{"", "-wal", "-journal"}

// state is what a database's files are like. The file itself has to be there.
func state(ctx context.Context, site hostfs.FS, base string) (map[string]hostfs.Entry, error) {
	out := map[string]hostfs.Entry{}
	for _, suffix := range parts {
		e, err := site.Stat(ctx, base+suffix)
		if err != nil && (suffix == "" || !errors.Is(err, fs.ErrNotExist)) {
			return nil, err
		}
		if err == nil {
			out[suffix] = e
		}
	}
	return out, nil
}

func get(ctx context.Context, from hostfs.FS, name, to string) error {
	in, err := from.Open(ctx, name)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Close())
}

type database struct {
	server  *server
	pool    *sql.DB
	name    string
	file    string
	was     hostfs.Entry // the file in the site, when it was copied
	fetched bool

	mu      sync.Mutex
	changed bool
}

// Close puts what was changed back into the site, unless the site has changed it meanwhile.
func (d *database) Close() error {
	d.mu.Lock()
	changed := d.changed && d.fetched
	d.changed = false
	d.mu.Unlock()
	err := d.pool.Close()
	if !d.fetched {
		return err
	}
	if changed && err == nil {
		err = d.putBack(context.Background())
	}
	for _, suffix := range append(parts, "-shm") {
		os.Remove(d.file + suffix)
	}
	return err
}

func (d *database) putBack(ctx context.Context) error {
	site, err := d.server.files.Sub(ctx, path.Dir(d.name))
	if err != nil {
		return err
	}
	defer site.Close()
	base := path.Base(d.name)
	fresh := hostfs.FreshName(base)
	if err := site.RemoveAll(ctx, fresh); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err := put(ctx, d.file, site, fresh, d.was.Mode.Perm()); err != nil {
		return err
	}
	now, err := state(ctx, site, base)
	if err == nil && (len(now) > 1 || now[""] != d.was) {
		err = fmt.Errorf("the site has changed its database %s meanwhile; nothing was changed, try again", d.name)
	}
	if err != nil {
		return errors.Join(err, site.RemoveAll(ctx, fresh))
	}
	return site.Rename(ctx, fresh, base)
}

func (d *database) Version(ctx context.Context) (sitedb.Version, error) { return d.server.Version(ctx) }
