package sites

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/check"
	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/provision"
	"nestseed/internal/core/sitedb"
	"nestseed/internal/service/hosts"
	"nestseed/internal/service/input"
	"nestseed/internal/service/records"
	"nestseed/internal/service/releases"
	"nestseed/internal/service/store"
)

// Opened is a request with what has to be closed after it.
type Opened struct {
	provision.Request
	Site    records.Site  // what will be recorded
	Old     *records.Site // what is replaced
	Was     *records.Site // what a safety copy is of
	Connect string
	close   []func()
}

// Close ends the connections.
func (o *Opened) Close() {
	for _, c := range o.close {
		c()
	}
}

// parties are the records that a provisioning is about.
type parties struct {
	release records.Release
	host    records.Host
	client  records.Client
	kind    *kind.Kind
}

func (svc *Sites) parties(ctx context.Context, args ProvisionArgs) (p parties, err error) {
	if p.release, err = svc.DB.Release(ctx, args.Release); err != nil {
		return p, err
	}
	if p.host, err = svc.DB.Host(ctx, args.Host); err != nil {
		return p, err
	}
	p.client, err = svc.DB.Client(ctx, args.Client)
	if errors.Is(err, records.ErrNotFound) && args.NewClient {
		p.client, err = records.Client{Name: args.Client}, nil
	}
	if err == nil {
		p.kind, err = svc.Kinds.Of(ctx, p.release.Manifest)
	}
	return p, err
}

// Request gathers what a provisioning needs: archive, host, values of the client and those given.
func (svc *Sites) Request(ctx context.Context, args ProvisionArgs, runID string) (*Opened, error) {
	with, err := svc.parties(ctx, args)
	if err != nil {
		return nil, err
	}
	r, h, c, k := with.release, with.host, with.client, with.kind
	o, whole := &Opened{Connect: h.Connect}, false
	defer func() {
		if !whole {
			o.Close()
		}
	}()
	a, f, err := svc.archiveFor(ctx, args, r)
	if err != nil {
		return nil, err
	}
	if err := a.CheckKind(k); err != nil {
		f.Close()
		return nil, fmt.Errorf("archive of %s: %w", r.Ref(), err)
	}
	o.close = append(o.close, func() { f.Close() })
	values, err := svc.values(ctx, c, args)
	if err != nil {
		return nil, err
	}
	if args.Name == "" {
		args.Name = c.Name
	}
	if args.Replace || args.Refresh {
		old, err := svc.oldSite(ctx, args.Name, h, c)
		if err != nil {
			return nil, err
		}
		o.Old = old
		if args.Address == "" {
			args.Address = old.Address
		}
		if args.Refresh {
			args.Visible, args.Mail = old.Visible, !old.Quiet
			ownValues(values, old.Plan.Values)
		}
	}
	fsys, server, err := svc.openHost(ctx, o, h, engineFor(k, &a.Manifest), args.Refresh)
	if err != nil {
		return nil, err
	}
	if err := provision.CheckName(args.Name); err != nil {
		return nil, input.Wrong(err)
	}
	if args.Address == "" {
		args.Address = strings.ReplaceAll(h.Address, "{name}", args.Name)
	}
	folder, err := hosts.Fill(h.WebRoot, args.Name, args.Address)
	if err != nil {
		return nil, err
	}
	o.Request = provision.Request{Archive: a, Kind: k, FS: fsys, Server: server, Name: args.Name, Folder: folder, Address: args.Address,
		Values: values, Files: svc.filesOf(c.Name), Visible: args.Visible, RunID: runID,
		Visit: svc.visitor(k, h, args.Name), MailAddresses: args.MailAddresses, Mend: args.Mend}
	o.Quiet = (!args.Visible || args.Hold || o.Old != nil && o.Old.Held) && !args.Mail
	if i := slices.IndexFunc(h.Runtimes, func(r provision.Runtime) bool { return r.Name == k.Runtime.Name }); i >= 0 {
		o.Runtime = &h.Runtimes[i]
	}
	if o.Old != nil {
		if err := svc.overOld(ctx, o, args); err != nil {
			return nil, err
		}
	}
	if args.CopyID != 0 {
		if o.Was, err = svc.siteOfCopy(ctx, args.CopyID); err != nil {
			return nil, err
		}
	}
	o.Site = records.Site{Name: args.Name, ClientID: c.ID, HostID: h.ID, ReleaseID: r.ID, Folder: o.Request.Folder}
	if err := svc.sharing(ctx, o, args, h, r); err != nil {
		return nil, err
	}
	whole = true
	return o, nil
}

// openHost reaches the host of a provisioning, and the server of the database that its rows are in.
func (svc *Sites) openHost(ctx context.Context, o *Opened, h records.Host, sqlEngine string,
	refresh bool) (hostfs.FS, sitedb.Server, error) {
	if refresh {
		sqlEngine = o.Old.Plan.Engine // its rows stay
	}
	fsys, server, err := svc.Hosts.Open(ctx, h, sqlEngine)
	if err == nil {
		o.close = append(o.close, func() { server.Close(); fsys.Close() })
	}
	return fsys, server, err
}

// overOld completes a request that replaces the site that stands there, or gives it newer code.
func (svc *Sites) overOld(ctx context.Context, o *Opened, args ProvisionArgs) error {
	old := o.Old
	if err := svc.sameKind(ctx, o, args); err != nil {
		return err
	}
	o.Request.Folder = old.Folder
	password, err := svc.databasePassword(ctx, *old)
	if err != nil {
		return err
	}
	o.Request.Replace = &provision.Existing{Engine: old.Plan.Engine, Database: old.Database, User: old.DBUser, Password: password,
		Prefix: old.Prefix,
		Admin:  old.Admin, Keep: args.Keep}
	if !args.Refresh {
		return nil
	}
	was, f, err := svc.codeOf(ctx, *old)
	if err != nil {
		return err
	}
	if f != nil {
		o.close = append(o.close, func() { f.Close() })
	}
	o.Request.Refresh = &provision.Refresh{Was: was}
	return nil
}

// sameKind refuses to give a site the code of another kind of CMS, or to take parts of one over. Errors: provision.ErrPlan.
func (svc *Sites) sameKind(ctx context.Context, o *Opened, args ProvisionArgs) error {
	if !args.Refresh && len(args.Keep) == 0 {
		return nil
	}
	was, err := svc.kindOf(ctx, *o.Old)
	if err != nil || was.Name == o.Kind.Name {
		return err
	}
	return fmt.Errorf("%w: site %s is of kind %s, and release %s of kind %s; replace the site as a whole, or choose a release of its kind",
		provision.ErrPlan, o.Old.Name, was.Name, o.Archive.Manifest.Ref(), o.Kind.Name)
}

func (svc *Sites) siteOfCopy(ctx context.Context, copyID int64) (*records.Site, error) {
	copied, err := svc.DB.SiteCopyByID(ctx, copyID)
	if err != nil {
		return nil, err
	}
	was, err := svc.DB.SiteByID(ctx, copied.SiteID)
	return &was, err
}

// oldSite is the site that a provisioning replaces, or gives newer code.
func (svc *Sites) oldSite(ctx context.Context, name string, h records.Host, c records.Client) (*records.Site, error) {
	old, err := svc.DB.Site(ctx, name)
	if err == nil && (old.HostID != h.ID || old.ClientID != c.ID) {
		err = fmt.Errorf("%w: site %s is %s's on host %s; name that client and host to replace it", provision.ErrPlan, old.Name, old.Client,
			old.Host)
	}
	return &old, err
}

// ownValues puts the values that a site has before those of its client. Secrets are not in its record.
func ownValues(values map[string]provision.Given, own []provision.Value) {
	for _, v := range own {
		if v.Value != "" && !v.Secret {
			values[v.Key] = provision.Given{Value: v.Value, Origin: "site"}
		}
	}
}

// visitor asks for pages of a site on its host, past the page that holds visitors off.
func (svc *Sites) visitor(k *kind.Kind, h records.Host, site string) func(context.Context, string, string) (int, []byte, error) {
	return func(ctx context.Context, address, page string) (int, []byte, error) {
		cookie := ""
		if key, err := svc.Vault.Get(ctx, "site", site, previewSecret); err == nil {
			cookie = k.Hold.Cookie + "=" + key
		}
		at := hosts.ReachBelow(h, address)
		at.Cookie = cookie
		return check.Visit(ctx, at, page)
	}
}

// codeOf opens the release that a site's code is of, or nothing when its archive is not kept any more.
func (svc *Sites) codeOf(ctx context.Context, s records.Site) (*archive.Archive, store.File, error) {
	r, err := svc.DB.ReleaseByID(ctx, s.ReleaseID)
	if err != nil {
		return nil, nil, err
	}
	a, f, err := svc.Releases.OpenArchive(ctx, r)
	if errors.Is(err, releases.ErrDiscarded) {
		return nil, nil, nil
	}
	return a, f, err
}

// archiveFor opens what a site is made from: a release's archive, or a safety copy's.
func (svc *Sites) archiveFor(ctx context.Context, args ProvisionArgs, r records.Release) (*archive.Archive, store.File, error) {
	if args.CopyID == 0 {
		return svc.Releases.OpenArchive(ctx, r)
	}
	c, err := svc.DB.SiteCopyByID(ctx, args.CopyID)
	if err != nil {
		return nil, nil, err
	}
	if c.Archive == "" {
		return nil, nil, fmt.Errorf("%w: safety copy %d is the site that was replaced; put it back with site undo", provision.ErrPlan, c.ID)
	}
	a, f, err := svc.Stored.Open(ctx, c.Archive, c.SumsSha256)
	if err != nil {
		return nil, nil, fmt.Errorf("safety copy %d: %w", c.ID, err)
	}
	return a, f, nil
}

func (svc *Sites) values(ctx context.Context, c records.Client, args ProvisionArgs) (map[string]provision.Given, error) {
	values := map[string]provision.Given{}
	for key, s := range c.Settings {
		v := s.Value
		if s.Secret {
			var err error
			if v, err = svc.Vault.Get(ctx, "client", c.Name, key); err != nil {
				return nil, err
			}
		}
		values[key] = provision.Given{Value: v, Origin: "client"}
	}
	if args.Sealed != "" {
		text, err := svc.Vault.Unseal(sealPurpose, args.Sealed)
		if err != nil {
			return nil, err
		}
		given := map[string]string{}
		if err := json.Unmarshal([]byte(text), &given); err != nil {
			return nil, err
		}
		for key, v := range given {
			values[key] = provision.Given{Value: v, Origin: "given"}
		}
	}
	return values, nil
}

// engineFor returns the engine of the database that a site needs that is made from a release.
func engineFor(k *kind.Kind, m *archive.Manifest) string {
	if engines := k.Settings.Database.Engines(); m.Database.Engine == "" && len(engines) == 1 {
		return engines[0]
	}
	if e, err := sitedb.EngineOf(m.Database.Engine); err == nil {
		return e.Scheme()
	}
	return m.Database.Engine
}

// pagesOfSites are names that stand for pages of the console where those of sites stand.
var pagesOfSites = []string{"new", "table"}

// CheckPlan adds to a plan what the records have against it: the name or the address is taken, or means something else.
func (svc *Sites) CheckPlan(ctx context.Context, p *provision.Plan, args ProvisionArgs) error {
	if slices.Contains(pagesOfSites, p.Name) {
		p.Problems = append(p.Problems, fmt.Sprintf("no site can be named %s, as the console has a page of that name; choose another name",
			p.Name))
	}
	named, err := svc.DB.Site(ctx, p.Name)
	switch {
	case err == nil && !args.Replace && !args.Refresh:
		p.Problems = append(p.Problems, fmt.Sprintf("there is a site %s already, at %s; give this one another name, or replace it", named.Name,
			named.Address))
	case err != nil && !errors.Is(err, records.ErrNotFound):
		return err
	default:
		there, err := svc.DB.Site(ctx, p.Address)
		if err == nil && there.Name != p.Name {
			p.Problems = append(p.Problems, fmt.Sprintf("site %s has the address %s already", there.Name, there.Address))
		} else if err != nil && !errors.Is(err, records.ErrNotFound) {
			return err
		}
	}
	if args.Replace || args.Refresh {
		return nil
	}
	of, err := svc.DB.SourceAt(ctx, p.Address)
	if err == nil {
		p.Problems = append(p.Problems, fmt.Sprintf("%s is the address of source %s itself; choose another", p.Address, of.Name))
	} else if !errors.Is(err, records.ErrNotFound) {
		return err
	}
	return nil
}
