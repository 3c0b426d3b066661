// Package sources is what the service does with sources: add, change and remove, open, survey and check them. A source is only read.
package sources

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"nestseed/internal/core/check"
	"nestseed/internal/core/hostfs"
	_ "nestseed/internal/core/hostfs/protocols"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/network"
	"nestseed/internal/core/progress"
	"nestseed/internal/core/sitedb"
	_ "nestseed/internal/core/sitedb/engines"
	"nestseed/internal/core/survey"
	"nestseed/internal/service/engine"
	"nestseed/internal/service/hosts"
	"nestseed/internal/service/kinds"
	"nestseed/internal/service/records"
)

// Sources is the sources of the records.
type Sources struct {
	DB     *records.DB
	Hosts  *hosts.Hosts
	Engine *engine.Engine
	Kinds  *kinds.Kinds
}

// Opened is an open source: its files, its database, and what it is.
type Opened struct {
	FS       hostfs.FS
	DB       sitedb.DB
	Identity *kind.Identity
	server   sitedb.Server
	account  string // of the database
}

// Close ends the connections.
func (s *Opened) Close() {
	if s.DB != nil {
		s.DB.Close()
		s.server.Close() // which may take a page away
	}
	s.FS.Close()
}

// OpenAt identifies a source and opens its database: at the address that was given for it, else at the one in its settings file. Of the
// source, only its name, path, kind, database, prefix and sub-site matter. Its kind is what it was when it was added, or was said to
// be, whatever other kinds are known since.
func (svc *Sources) OpenAt(ctx context.Context, h records.Host, src records.Source) (*Opened, error) {
	all, err := svc.Kinds.Among(ctx, src.Kind)
	if err != nil {
		return nil, err
	}
	fsys, err := svc.Hosts.Files(ctx, h)
	if err != nil {
		return nil, err
	}
	s := &Opened{FS: fsys}
	if s.Identity, err = kind.Identify(ctx, fsys, src.Path, all); err != nil {
		err = svc.notOfKind(ctx, fsys, src, err)
		fsys.Close()
		return nil, err
	}
	settings := s.Identity.Kind.Settings
	if src.Prefix != "" {
		s.Identity.Prefix = src.Prefix
		s.Identity.Told(settings.Prefix)
	}
	if d := settings.Database; src.Database != "" {
		s.Identity.Told(d.Names()...)
	}
	named := settings.Database.Names()
	if src.Database != "" {
		named = nil
	}
	if err := errors.Join(s.Identity.CanBeSource(), s.Identity.HasPrefix(), s.Identity.Has(named...)); err != nil {
		fsys.Close()
		return nil, err
	}
	dbName, err := svc.openServer(ctx, s, h, src)
	if err == nil {
		if s.DB, err = s.server.Open(ctx, dbName); err != nil {
			s.server.Close()
		}
	}
	if err == nil {
		if err = bounded(ctx, s.DB, s.account, src.Account); err != nil {
			s.DB.Close()
			s.server.Close()
		}
	}
	if err != nil {
		fsys.Close()
		return nil, fmt.Errorf("database of source %s: %w", src.Name, err)
	}
	s.DB = sitedb.Guard(s.DB)
	if err := cmp.Or(s.hasTables(ctx, dbName), s.network(ctx, src)); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// notOfKind says what a folder holds in the place of a site of the kind that it should.
func (svc *Sources) notOfKind(ctx context.Context, fsys hostfs.FS, src records.Source, err error) error {
	below := (*kind.BelowError)(nil)
	if src.Kind == "" || !errors.Is(err, kind.ErrUnknown) || errors.As(err, &below) {
		return err
	}
	all, allErr := svc.Kinds.All(ctx)
	if allErr != nil {
		return errors.Join(err, allErr)
	}
	if id, _ := kind.Identify(ctx, fsys, src.Path, all); id != nil && id.Kind != nil {
		return fmt.Errorf("%s holds %s, not %s", src.Path, id.Kind.Name, src.Kind)
	}
	return err
}

// AnyAccount stands for the account that a source is found to have, when an owner confirms that one.
const AnyAccount = "*"

// bounded refuses an account that may read more than the database of the source, unless it is the one that an owner has confirmed: a site
// that was broken into could name the account of another, or an administrator. Errors: sitedb.ErrUnconfirmed.
func bounded(ctx context.Context, db sitedb.DB, account, confirmed string) error {
	b, is := db.(sitedb.Bounded)
	if !is || confirmed == AnyAccount || confirmed == account {
		return nil
	}
	beyond, err := b.Beyond(ctx)
	if err != nil || len(beyond) == 0 {
		return err
	}
	return fmt.Errorf("the account %s %w: it may read other databases (%s). Give the source an account that may read its own database "+
		"alone, or "+
		"let an owner confirm this one", account, sitedb.ErrUnconfirmed, strings.Join(beyond, ", "))
}

// network reads which sub-sites a source has that is a network, and where it is to be one of them, goes on with that alone.
func (s *Opened) network(ctx context.Context, src records.Source) error {
	if s.DB == nil {
		return nil
	}
	if err := network.Read(ctx, s.DB, s.Identity); err != nil || src.SubSite == "" {
		return err
	}
	fsys, db, err := network.Alone(ctx, s.FS, src.Path, s.DB, s.Identity, src.SubSite)
	if err == nil {
		s.FS, s.DB = fsys, db
	}
	return err
}

// openServer connects to the server of a source's database, and returns the name that the database has there.
func (svc *Sources) openServer(ctx context.Context, s *Opened, h records.Host, src records.Source) (database string, err error) {
	if s.Identity.Kind.Settings.Database.None() && src.Database == "" {
		s.server = sitedb.None
		return "", nil
	}
	database = s.Identity.Database.Name
	if e, err := sitedb.EngineOf(s.Identity.Database.Engine); err == nil && e.InSite && src.Database == "" {
		if database, err = s.Identity.DatabaseFile(s.FS, src.Path); err != nil {
			return "", err
		}
		s.server, err = e.OnFiles(s.FS, svc.Hosts.Scratch)
		return database, err
	}
	var address string
	if src.Database != "" {
		if address, err = svc.Hosts.WithPassword(ctx, src.Database, "source", src.Name); err != nil {
			return "", err
		}
		if u, parseErr := url.Parse(address); parseErr == nil {
			database = cmp.Or(strings.Trim(u.Path, "/"), database)
			password, _ := u.User.Password()
			s.Identity.AddSecret(kind.GivenPassword, password)
		}
	} else if address, err = settingsAddress(s.Identity); err != nil {
		return "", err
	} else {
		address = hosts.AsFound(s.FS, address)
	}
	page := svc.Hosts.PageOf(h)
	page.Admin = false
	if src.Address != "" { // a page can be placed in the source itself, where its host has no other place for one
		page = hosts.Page{Folder: src.Path, At: hosts.Reach(h, src.Address), Journal: svc.Hosts.Pages(h.ID, src.Path)}
	}
	u, err := url.Parse(address)
	if err != nil {
		return "", errors.New("the database address cannot be read")
	}
	s.account = u.User.Username()
	if u.Query().Get("through") != "page" { // a page runs as the site's own programs do
		if err := sitedb.Unconfirmed(u); err != nil {
			return "", err
		}
	}
	s.server, err = hosts.Database(s.FS, address, page)
	return database, err
}

// hasTables sees that the database has tables of the site's kind with its prefix.
func (s *Opened) hasTables(ctx context.Context, database string) error {
	sign := s.Identity.Kind.SignTable()
	if sign == "" {
		return nil
	}
	tables, err := s.DB.Tables(ctx)
	if err != nil {
		return err
	}
	var found []string
	for _, t := range tables {
		if prefix, is := strings.CutSuffix(t.Name, sign); is && prefix == s.Identity.Prefix {
			return nil
		} else if is {
			found = append(found, strconv.Quote(prefix))
		}
	}
	if len(found) == 0 {
		return fmt.Errorf("%w: database %s has no tables of %s; say which database is right", kind.ErrCannotRead, database,
			s.Identity.Kind.Title)
	}
	return fmt.Errorf("%w: database %s has no table %s%s, its prefix is %s; say which prefix is right, or which database",
		kind.ErrCannotRead, database, s.Identity.Prefix, sign, strings.Join(found, " or "))
}

// settingsAddress makes a database address of a settings file's values.
func settingsAddress(id *kind.Identity) (string, error) {
	d := id.Database
	if d.Name == "" || d.User == "" || d.Host == "" {
		return "", fmt.Errorf("the settings file does not tell it (%s); give the database, like mysql://user@host:port/name",
			strings.Join(append(id.Unreadable, "name, user or host is empty"), "; "))
	}
	return sitedb.InSettings(d.Engine, d.Host, d.User, d.Password)
}

// SurveyArgs ask for a survey of a source.
type SurveyArgs struct {
	SourceID int64 `json:"source_id"`
}

// SurveyResult is what a survey came to.
type SurveyResult struct {
	Totals   survey.Totals `json:"totals"`
	Findings int           `json:"findings"`
}

// Survey reads a source once and keeps what it found.
func (svc *Sources) Survey(ctx context.Context, run engine.Run, args SurveyArgs, report progress.Reporter) (*SurveyResult, error) {
	src, open, err := svc.Open(ctx, args.SourceID)
	if err != nil {
		return nil, err
	}
	defer open.Close()
	h, err := svc.DB.HostByID(ctx, src.HostID)
	if err != nil {
		return nil, err
	}
	visit := func(ctx context.Context, address string) (http.Header, error) {
		return check.Headers(ctx, hosts.Reach(h, address))
	}
	in := survey.Input{FS: open.FS, Root: src.Path, DB: open.DB, Identity: open.Identity, Visit: visit, Known: KnownAs(src)}
	if src.Survey != nil {
		in.ExpectedFiles = src.Survey.Totals.Files
	}
	s, err := survey.Take(ctx, in, report)
	if err != nil {
		return nil, err
	}
	if ctx, err = svc.Engine.Commit(ctx, run); err != nil {
		return nil, err
	}
	return &SurveyResult{s.Totals, len(s.Findings)}, svc.DB.AddSurvey(ctx, src.ID, s)
}

// KnownAs returns the addresses that a source was given or found at until now: what it was known as once may still stand in it.
func KnownAs(src records.Source) []string {
	known := []string{strings.TrimRight(src.Address, "/")}
	if src.Survey != nil {
		known = append(append(known, src.Survey.Address), src.Survey.Also...)
	}
	return slices.DeleteFunc(known, func(a string) bool { return a == "" })
}

// Open opens the source with a number.
func (svc *Sources) Open(ctx context.Context, id int64) (records.Source, *Opened, error) {
	src, err := svc.DB.SourceByID(ctx, id)
	if err != nil {
		return src, nil, err
	}
	h, err := svc.DB.HostByID(ctx, src.HostID)
	if err != nil {
		return src, nil, err
	}
	open, err := svc.OpenAt(ctx, h, src)
	return src, open, err
}

// Check checks a site that was made by hand. Nobody has asked for anything there, and its login is not known.
func (svc *Sources) Check(ctx context.Context, name string, report progress.Reporter) (*check.Report, error) {
	s, err := svc.DB.Source(ctx, name)
	if err != nil {
		return nil, err
	}
	h, err := svc.DB.HostByID(ctx, s.HostID)
	if err != nil {
		return nil, err
	}
	open, err := svc.OpenAt(ctx, h, s)
	if err != nil {
		return nil, err
	}
	defer open.Close()
	at := hosts.Reach(h, s.Address)
	return check.Run(ctx, check.Site{Address: s.Address, Connect: h.Connect, Private: at.Private, Kind: open.Identity.Kind, AsItIs: true,
		SubSites: open.Identity.SubSites,
		DB:       open.DB, Prefix: open.Identity.Prefix, FS: open.FS, Folder: s.Path, Pages: svc.Hosts.Pages(h.ID, s.Path)}, report)
}
