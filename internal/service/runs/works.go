package runs

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/url"
	"strings"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/check"
	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/packing"
	"nestseed/internal/core/sitedb"
	"nestseed/internal/service/records"
	"nestseed/internal/service/store"
	"nestseed/internal/service/vault"
)

// Works is what runs work with: records, vault, store and kinds, and how to get from a record to a
// connection.
type Works struct {
	DB    *records.DB
	Vault *vault.Vault
	Store *store.Store
	Kinds []*kind.Kind
	// Data is the service's folder; what comes from outside is unpacked and uploaded below it.
	Data string
	// DNS is asked where the names of sites lead.
	DNS check.Resolver
	// Start records a run and queues it; set by whoever has the runner.
	Start func(ctx context.Context, run records.Run, args any) (records.Run, error)
}

// ErrDiscarded says that a release's archive is not kept any more.
var ErrDiscarded = errors.New("the archive was discarded")

// Sorts returns the sorts of runs there are.
func (w *Works) Sorts() map[string]Sort {
	const nothing = "it has changed nothing"
	again := func(context.Context, records.Run) (Outcome, error) { return Again, nil }
	onward := func(_ context.Context, run records.Run) (Outcome, error) {
		if run.Committed {
			return Onward, nil
		}
		return Again, nil
	}
	return map[string]Sort{
		"survey":    {w.survey, again, nothing},
		"build":     {w.build, w.recoverBuild, ""},
		"verify":    {w.verify, again, nothing},
		"compare":   {w.compare, again, nothing},
		"import":    {w.bringIn, w.recoverImport, ""},
		"retention": {w.retention, again, "what it had discarded stays discarded"},
		"provision": {w.provision, w.recoverProvision, ""},
		"check":     {w.check, again, nothing},
		"undo":      {w.undo, onward, nothing},
		"copy":      {w.keepCopy, again, ""},
		"retire":    {w.retire, onward, "the site is as it was; a safety copy that was made of it stays"},
		"rotate":    {w.rotate, onward, nothing},
		"move":      {w.move, w.recoverMove, "the site stays where it was, and so does a safety copy that was made of it"},
		"table":     {w.table, again, "the sites that it had made stay"},
		"look":      {w.sideBySide, again, nothing},
	}
}

// commit takes a run past the point where it can be cancelled: what it made is kept from here on, or what it has begun is
// ended. The context it returns goes on also when the service ends. Errors: ErrCancelled.
func (w *Works) commit(ctx context.Context, run records.Run) (context.Context, error) {
	ctx = context.WithoutCancel(ctx)
	if ok, err := w.DB.CommitRun(ctx, run.ID); err != nil || !ok {
		return ctx, cmp.Or(err, ErrCancelled)
	}
	return ctx, nil
}

// OpenHost connects to a host's files and database server. Both are the caller's to close.
func (w *Works) OpenHost(ctx context.Context, h records.Host) (hostfs.FS, sitedb.Server, error) {
	fsys, err := hostfs.Open(h.Files)
	if err != nil {
		return nil, nil, fmt.Errorf("host %s: %w", h.Name, err)
	}
	address, err := w.withPassword(ctx, h.Database, "host", h.Name)
	if err != nil {
		fsys.Close()
		return nil, nil, err
	}
	server, err := sitedb.Connect(address)
	if err != nil {
		fsys.Close()
		return nil, nil, fmt.Errorf("host %s: %w", h.Name, err)
	}
	return fsys, server, nil
}

func (w *Works) openHostByID(ctx context.Context, id int64) (hostfs.FS, sitedb.Server, error) {
	h, err := w.DB.HostByID(ctx, id)
	if err != nil {
		return nil, nil, err
	}
	return w.OpenHost(ctx, h)
}

// withPassword puts the password from the vault, if there is one, into a database address.
func (w *Works) withPassword(ctx context.Context, address, noun, owner string) (string, error) {
	u, err := url.Parse(address)
	if err != nil {
		return "", fmt.Errorf("database address of %s %s cannot be read", noun, owner)
	}
	secret, err := w.Vault.Get(ctx, noun, owner, "database")
	if errors.Is(err, records.ErrNotFound) {
		return address, nil
	}
	if err != nil {
		return "", err
	}
	u.User = url.UserPassword(u.User.Username(), secret)
	return u.String(), nil
}

// OpenSource is an open source: its files, its database, and what it is.
type OpenSource struct {
	FS       hostfs.FS
	DB       sitedb.DB
	Identity *kind.Identity
	server   sitedb.Server
}

// Close ends the connections.
func (s *OpenSource) Close() {
	s.FS.Close()
	if s.DB != nil {
		s.DB.Close()
		s.server.Close()
	}
}

// OpenSourceAt identifies a source and opens its database: at the address that was given for it, else at
// the one in its settings file.
func (w *Works) OpenSourceAt(ctx context.Context, h records.Host, name, path, database string) (*OpenSource, error) {
	fsys, err := hostfs.Open(h.Files)
	if err != nil {
		return nil, fmt.Errorf("host %s: %w", h.Name, err)
	}
	s := &OpenSource{FS: fsys}
	if s.Identity, err = kind.Identify(fsys, path, w.Kinds); err != nil {
		fsys.Close()
		return nil, err
	}
	address, dbName := "", s.Identity.Database.Name
	if database != "" {
		if address, err = w.withPassword(ctx, database, "source", name); err == nil {
			if u, parseErr := url.Parse(address); parseErr == nil && strings.Trim(u.Path, "/") != "" {
				dbName = strings.Trim(u.Path, "/")
			}
		}
	} else {
		address, err = settingsAddress(s.Identity)
	}
	if err == nil {
		s.server, err = sitedb.Connect(address)
	}
	if err == nil {
		if s.DB, err = s.server.Open(ctx, dbName); err != nil {
			s.server.Close()
		}
	}
	if err != nil {
		fsys.Close()
		return nil, fmt.Errorf("database of source %s: %w", name, err)
	}
	return s, nil
}

// settingsAddress makes a database address of a settings file's values. PHP's host may carry a port or a socket.
func settingsAddress(id *kind.Identity) (string, error) {
	d := id.Database
	if d.Name == "" || d.User == "" || d.Host == "" {
		return "", fmt.Errorf("the settings file does not tell it (%s); give it with --database mysql://user@host:port/name", strings.Join(append(id.Unreadable, "name, user or host is empty"), "; "))
	}
	u := url.URL{Scheme: "mysql", User: url.UserPassword(d.User, d.Password), Host: d.Host, Path: "/"}
	if host, socket, found := strings.Cut(d.Host, ":/"); found {
		u.Host, u.RawQuery = host, url.Values{"socket": {"/" + socket}}.Encode()
	}
	return u.String(), nil
}

// OpenArchive opens a release's archive.
func (w *Works) OpenArchive(r records.Release) (*archive.Archive, store.File, error) {
	if r.Archive == "" {
		return nil, nil, fmt.Errorf("%w: %s; its record is left, and a new release can be built", ErrDiscarded, r.Ref())
	}
	f, size, err := w.Store.Open(r.Archive)
	if err != nil {
		return nil, nil, err
	}
	a, err := archive.Open(f, size)
	if err != nil {
		f.Close()
		return nil, nil, fmt.Errorf("archive of %s: %w", r.Ref(), err)
	}
	// An archive that was brought in says what it was called elsewhere.
	a.Manifest.Starter, a.Manifest.Number = r.Starter, r.Number
	return a, f, nil
}

// Matcher compiles a starter's packing list against its source's newest survey.
func (w *Works) Matcher(t records.Starter, prefix string) (*packing.Matcher, error) {
	list, err := packing.Parse([]byte(t.List))
	if err != nil {
		return nil, err
	}
	k, err := kind.Named(w.Kinds, t.Kind)
	if err != nil {
		return nil, err
	}
	return list.Compile(k, prefix)
}
