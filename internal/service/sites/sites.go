// Package sites is what the service does with sites: make, replace, refresh, move and retire them, keep copies of them and put
// those back, hold and open them, check them, hand them over. It is the only code that changes a site, and it does so under
// the site's lock.
package sites

import (
	"context"
	"fmt"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/check"
	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/provision"
	"nestseed/internal/core/sitedb"
	"nestseed/internal/service/engine"
	"nestseed/internal/service/hosts"
	"nestseed/internal/service/kinds"
	"nestseed/internal/service/records"
	"nestseed/internal/service/releases"
	"nestseed/internal/service/sources"
	"nestseed/internal/service/vault"
)

// Sites is the sites of the records, on their hosts. Whatever changes one holds its lock.
type Sites struct {
	DB       *records.DB
	Vault    *vault.Vault
	Stored   *releases.Stored
	Hosts    *hosts.Hosts
	Sources  *sources.Sources
	Releases *releases.Releases
	Engine   *engine.Engine
	Kinds    *kinds.Kinds
	// Data is the service's folder.
	Data string
	// DNS is asked where the names of sites lead.
	DNS check.Resolver
	// DNSServers are those that the settings name, as host:port; none for the machine's own.
	DNSServers []string
}

// openSite is a site with its host, kind and connections.
type openSite struct {
	records.Site
	kind   *kind.Kind
	fs     hostfs.FS
	server sitedb.Server
}

func (o *openSite) Close() {
	o.server.Close() // which may take a page away
	o.fs.Close()
}

func (svc *Sites) openSite(ctx context.Context, s records.Site) (*openSite, error) {
	k, err := svc.kindOf(ctx, s)
	if err != nil {
		return nil, err
	}
	fsys, server, err := svc.Hosts.OpenByID(ctx, s.HostID, s.Plan.Engine)
	if err != nil {
		return nil, err
	}
	return &openSite{s, k, fsys, server}, nil
}

// siteDatabase opens a site's database with the site's own account. It may have been broken into since it was made.
func (svc *Sites) siteDatabase(ctx context.Context, server sitedb.Server, s records.Site) (sitedb.DB, error) {
	password := s.Result.UserPassword // of one that was just made, and is not in the vault yet
	if password == "" {
		var err error
		if password, err = svc.databasePassword(ctx, s); err != nil {
			return nil, err
		}
	}
	db, err := server.OpenAs(ctx, s.Database, s.DBUser, password)
	if err != nil {
		return nil, err
	}
	return sitedb.Guard(db), nil
}

// databasePassword returns the password of a site's database user; "" where its engine has no accounts.
func (svc *Sites) databasePassword(ctx context.Context, s records.Site) (string, error) {
	if s.Plan.Engine != "" && !sitedb.HasAccounts(s.Plan.Engine) {
		return "", nil
	}
	password, err := svc.Vault.Get(ctx, "site", s.Name, "database")
	if err != nil {
		return "", fmt.Errorf("the password of the database of site %s: %w", s.Name, err)
	}
	return password, nil
}

// SiteArgs ask for something to be done with a site. What it is at that moment is part of them, so that a run
// that begins again does not do it to what the site has become.
type SiteArgs struct {
	SiteID   int64  `json:"site_id"`
	SiteRun  int64  `json:"site_run,omitempty"` // the run that made the site as it stood
	CopyID   int64  `json:"copy_id,omitempty"`
	Folder   string `json:"folder,omitempty"`  // where the copy lies, and after it was put back what it took the place of
	HostID   int64  `json:"host_id,omitempty"` // that Folder is on, when the site has moved
	RunID    int64  `json:"run_id,omitempty"`  // the run that made the copy
	Database string `json:"database,omitempty"`
	User     string `json:"user,omitempty"`
	CodeID   *int64 `json:"code_id,omitempty"` // of an install, that the site shares
	Address  string `json:"address,omitempty"` // by which that finds it
	NoCopy   bool   `json:"no_copy,omitempty"`
}

// ArgsFor are the arguments of a run on a site as it is now.
func ArgsFor(s records.Site) SiteArgs {
	return SiteArgs{SiteID: s.ID, SiteRun: s.RunID, Database: s.Database, User: s.DBUser, CodeID: s.CodeID, Address: s.Address}
}

// current refuses to begin with a site that has become another since it was asked for.
func (a SiteArgs) current(s records.Site) error {
	if a.Database != "" && s.Database != a.Database || a.SiteRun != 0 && s.RunID != a.SiteRun {
		return fmt.Errorf("%w: site %s has changed since this was asked for; look at it again", provision.ErrPlan, s.Name)
	}
	return nil
}

// Places returns how often a release names what is replaced on each site, counted once.
func (svc *Sites) Places(ctx context.Context, r records.Release, a *archive.Archive) (*records.Places, error) {
	p, err := svc.DB.PlacesOf(ctx, r.ID)
	if err != nil || p != nil {
		return p, err
	}
	p = &records.Places{}
	if p.Counts, p.Samples, err = provision.CountPlaces(ctx, a); err != nil {
		return nil, err
	}
	return p, svc.DB.SetPlaces(ctx, r.ID, *p)
}
