package sites

import (
	"cmp"
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
	"nestseed/internal/core/network"
	"nestseed/internal/core/progress"
	"nestseed/internal/core/provision"
	"nestseed/internal/core/sitedb"
	"nestseed/internal/core/sitevalue"
	"nestseed/internal/service/engine"
	"nestseed/internal/service/hosts"
	"nestseed/internal/service/records"
	"nestseed/internal/service/releases"
	"nestseed/internal/service/store"
)

// ProvisionArgs ask for a site. Values that were given for this site alone may be secret, so they are sealed.
type ProvisionArgs struct {
	Name    string `json:"name"`
	Client  string `json:"client"`
	Release string `json:"release"`
	Host    string `json:"host"`
	Address string `json:"address"`
	Visible bool   `json:"visible"`
	Sealed  string `json:"sealed,omitempty"`
	// Replace puts the site in the place of the one of this name, which stays as a safety copy.
	Replace bool     `json:"replace,omitempty"`
	Keep    []string `json:"keep,omitempty"`    // parts of the old one that are taken over
	CopyID  int64    `json:"copy_id,omitempty"` // a safety copy to make it from, in place of a release
	Hold    bool     `json:"hold,omitempty"`
	Mail    bool     `json:"mail,omitempty"`    // goes out, though this is a preview
	Refresh bool     `json:"refresh,omitempty"` // only the code of what is replaced
	// MailAddresses at the source's host become such at the site's.
	MailAddresses bool `json:"mail_addresses,omitempty"`
	// Mend puts lengths right in serialised values that are broken in the source.
	Mend bool `json:"mend,omitempty"`
	// TenantOf is the install whose code the site shares; a site that shares code goes on to, unless it is to have its own.
	TenantOf string `json:"tenant_of,omitempty"`
	OwnCode  bool   `json:"own_code,omitempty"`
	// Unchecked leaves the checks to whoever asks for the site.
	Unchecked bool `json:"unchecked,omitempty"`
	// NewClient lets a plan be made for a client who is not there yet.
	NewClient bool `json:"-"`
}

const sealPurpose = "values of a provisioning"

// SealValues puts given values into the arguments.
func (svc *Sites) SealValues(a *ProvisionArgs, given map[string]string) error {
	if len(given) == 0 {
		return nil
	}
	text, err := json.Marshal(given)
	if err != nil {
		return err
	}
	a.Sealed, err = svc.Vault.Seal(sealPurpose, string(text))
	return err
}

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
	a, f, err := svc.Releases.OpenArchive(r)
	if errors.Is(err, releases.ErrDiscarded) {
		return nil, nil, nil
	}
	return a, f, err
}

// archiveFor opens what a site is made from: a release's archive, or a safety copy's.
func (svc *Sites) archiveFor(ctx context.Context, args ProvisionArgs, r records.Release) (*archive.Archive, store.File, error) {
	if args.CopyID == 0 {
		return svc.Releases.OpenArchive(r)
	}
	c, err := svc.DB.SiteCopyByID(ctx, args.CopyID)
	if err != nil {
		return nil, nil, err
	}
	if c.Archive == "" {
		return nil, nil, fmt.Errorf("%w: safety copy %d is the site that was replaced; put it back with site undo", provision.ErrPlan, c.ID)
	}
	a, f, err := svc.Stored.Open(c.Archive, c.SumsSha256)
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

// journal is a provision.Journal in the records.
type journal struct {
	db *records.DB
	id int64
}

func (j journal) Making(ctx context.Context, m provision.Made) error {
	return j.db.AddMade(ctx, j.id, m)
}
func (j journal) NotOurs(ctx context.Context, m provision.Made) error {
	return j.db.RemoveMade(ctx, j.id, m)
}

// ProvisionResult is the site that was made.
type ProvisionResult struct {
	Site    string `json:"site"`
	Address string `json:"address"`
	*provision.Result
	Login  string        `json:"login"` // which login works, in a sentence
	Report *check.Report `json:"report"`
}

// LoginSentence says which login of a site works.
func LoginSentence(site string, res *provision.Result) string {
	if res.KeptAccounts {
		return fmt.Sprintf("the accounts that were there log in as before, %s among them", res.Admin)
	}
	return fmt.Sprintf("log in as %s with the password that the vault has as administrator of site %s", res.Admin, site)
}

// Provision makes a site.
func (svc *Sites) Provision(ctx context.Context, run engine.Run, args ProvisionArgs, report progress.Reporter) (*ProvisionResult, error) {
	o, err := svc.Request(ctx, args, fmt.Sprint(run.ID))
	if err != nil {
		return nil, err
	}
	defer o.Close()
	plan, err := provision.Prepare(ctx, o.Request)
	if err != nil {
		return nil, err
	}
	// What was held stays so in its new form, until somebody opens it.
	o.Site.Held = args.Hold || o.Old != nil && o.Old.Held
	if o.Site.Held {
		if o.Hold, _, err = svc.holdingPage(ctx, o.Kind, plan.Name, plan.Address, plan); err != nil {
			return nil, err
		}
	}
	checks, err := svc.ChecksMillis(ctx, o.Site.ReleaseID)
	if err != nil {
		return nil, err
	}
	share := makingShare(plan, checks)
	if args.Unchecked {
		share = 1
	}
	res, err := provision.Make(ctx, o.Request, plan, journal{svc.DB, run.ID}, progress.Within(report, 0, share))
	if err == nil {
		if err = svc.keep(ctx, run, o, plan, res, report); err != nil {
			err = errors.Join(err, svc.takeBack(context.WithoutCancel(ctx), run, o))
		}
	} else {
		err = errors.Join(err, svc.forgetIfGone(context.WithoutCancel(ctx), run, o, err))
	}
	if err != nil {
		return nil, err
	}
	out := &ProvisionResult{Site: plan.Name, Address: plan.Address, Result: res, Login: LoginSentence(plan.Name, res)}
	if args.Unchecked {
		return out, nil
	}
	// The site stands. A fault in checking it is told, and does not take it down again.
	if out.Report, err = svc.checkSite(ctx, plan.Name, progress.Within(report, share, 1)); err != nil {
		report.Note(fmt.Sprintf("the site could not be checked: %v", err))
	}
	return out, nil
}

// checksMillis is about how long the checks of a site take, where there is none yet that it could be learned from.
const checksMillis = 1200

// ChecksMillis is about how long the checks of a site of a release take: as long as those of the newest sites of its starter.
func (svc *Sites) ChecksMillis(ctx context.Context, releaseID int64) (int64, error) {
	learned, err := svc.DB.ChecksMillis(ctx, releaseID)
	return cmp.Or(learned, checksMillis), err
}

// makingShare is which share of a provisioning is making the site; the rest is checking it.
func makingShare(p *provision.Plan, checksMillis int64) float64 {
	return float64(p.ExpectedMillis) / float64(p.ExpectedMillis+checksMillis)
}

// siteSecrets are the names under which a site's credentials are in the vault.
var siteSecrets = []string{"administrator", "database"}

// secretOfRun is the name under which a credential is kept that a run has put another in the place of.
func secretOfRun(name string, runID int64) string {
	return fmt.Sprintf("%s before run %d", name, runID)
}

// stashSecrets keeps the credentials of a site that is replaced, so that they can be put back.
func (svc *Sites) stashSecrets(ctx context.Context, site string, runID int64) error {
	for _, name := range siteSecrets {
		old, err := svc.Vault.Get(ctx, "site", site, name)
		if errors.Is(err, records.ErrNotFound) {
			continue
		}
		if err != nil {
			return err
		}
		if err := svc.Vault.Put(ctx, "site", site, secretOfRun(name, runID), old); err != nil {
			return err
		}
	}
	return nil
}

// restoreSecrets makes the credentials that were put aside those of the site again.
func (svc *Sites) restoreSecrets(ctx context.Context, site string, runID int64) error {
	for _, name := range siteSecrets {
		old, err := svc.Vault.Get(ctx, "site", site, secretOfRun(name, runID))
		if errors.Is(err, records.ErrNotFound) {
			continue
		}
		if err != nil {
			return err
		}
		if err := svc.Vault.Put(ctx, "site", site, name, old); err != nil {
			return err
		}
		if err := svc.DB.RemoveSecrets(ctx, "site", site, secretOfRun(name, runID)); err != nil {
			return err
		}
	}
	return nil
}

// keep commits the run, seals the credentials and records the site. With an error there is no record of it.
func (svc *Sites) keep(ctx context.Context, run engine.Run, o *Opened, plan *provision.Plan, res *provision.Result,
	report progress.Reporter) error {
	ctx, err := svc.Engine.Commit(ctx, run)
	if err != nil {
		return err
	}
	if o.Old != nil {
		if err := svc.stashSecrets(ctx, plan.Name, run.ID); err != nil {
			return err
		}
	}
	for name, secret := range map[string]string{"administrator": res.AdminPassword, "database": res.UserPassword} {
		if secret == "" {
			continue // the accounts that were there stay
		}
		if err := svc.Vault.Put(ctx, "site", plan.Name, name, secret); err != nil {
			return err
		}
	}
	s := o.Site
	s.RunID, s.Address, s.Plan, s.Result, s.Standing = run.ID, plan.Address, plan, res, records.StandingOf(plan, res)
	s.CodeID = o.Site.CodeID
	switch {
	case o.Was != nil && len(plan.Values) == 0:
		plan.Values = o.Was.Plan.Values // a safety copy asks for no values; it has them
	case o.Refresh != nil:
		plan.Values = o.Old.Plan.Values // they stand in its content
	}
	var tasks []records.LaunchTask
	for _, t := range o.Archive.Manifest.List.LaunchTasks {
		tasks = append(tasks, records.LaunchTask{Key: t.Key, Title: t.Title, Detail: t.Detail, Page: t.Page})
	}
	if o.Old != nil {
		err = svc.DB.ReplaceSite(ctx, *o.Old, s, res.CopyFolder, o.Old.Plan.Bytes, tasks)
	} else {
		err = svc.DB.AddSite(ctx, s, tasks)
	}
	if err = svc.unlessRecorded(ctx, run, err); err != nil {
		return err
	}
	return nil
}

// unlessRecorded is an error of recording a run's site, unless it is recorded: an answer that was lost on its way may
// have been yes.
func (svc *Sites) unlessRecorded(ctx context.Context, run engine.Run, err error) error {
	if err != nil {
		if made, asked := svc.DB.SiteOfRun(ctx, run.ID); asked == nil && made {
			return nil
		}
	}
	return err
}

// takeBack undoes what the journal says. Errors: engine.ErrCleanup.
func (svc *Sites) takeBack(ctx context.Context, run engine.Run, o *Opened) error {
	if err := svc.undoMade(ctx, run, o.FS, o.Server); err != nil {
		return err
	}
	if o.Old != nil {
		return svc.restoreSecrets(ctx, o.Name, run.ID)
	}
	return svc.DB.RemoveSecrets(ctx, "site", o.Name)
}

// undoMade takes back what a run's journal says, and empties it. Errors: engine.ErrCleanup.
func (svc *Sites) undoMade(ctx context.Context, run engine.Run, fsys hostfs.FS, server sitedb.Server) error {
	made, err := svc.DB.Made(ctx, run.ID)
	if err == nil {
		err = provision.Undo(ctx, fsys, server, made)
	}
	if err != nil {
		return fmt.Errorf("%w: %w", engine.ErrCleanup, err)
	}
	return svc.DB.ClearMade(ctx, run.ID)
}

// forgetIfGone empties the journal after Make took everything back itself.
func (svc *Sites) forgetIfGone(ctx context.Context, run engine.Run, o *Opened, err error) error {
	if errors.Is(err, provision.ErrLeftBehind) {
		return engine.ErrCleanup // the journal still says what there is to take back
	}
	if _, err := svc.DB.Site(ctx, o.Name); errors.Is(err, records.ErrNotFound) {
		if err := svc.DB.RemoveSecrets(ctx, "site", o.Name); err != nil {
			return err
		}
	}
	return svc.DB.ClearMade(ctx, run.ID)
}

// RecoverProvision takes back an interrupted provisioning, unless its site is recorded.
func (svc *Sites) RecoverProvision(ctx context.Context, run engine.Run, args ProvisionArgs) (engine.Outcome, error) {
	made, err := svc.DB.SiteOfRun(ctx, run.ID)
	if err != nil {
		return engine.TakenBack, err
	}
	if made {
		return engine.Finished, nil
	}
	o, err := svc.Request(ctx, args, fmt.Sprint(run.ID))
	if err != nil {
		return engine.TakenBack, err
	}
	defer o.Close()
	return engine.TakenBack, svc.takeBack(ctx, run, o)
}

// CheckArgs ask for a site to be checked.
type CheckArgs struct {
	Site   string `json:"site,omitempty"`
	Source string `json:"source,omitempty"` // a site that was made by hand
}

// Check checks a site, or a source.
func (svc *Sites) Check(ctx context.Context, run engine.Run, args CheckArgs, report progress.Reporter) (*check.Report, error) {
	if args.Source != "" {
		return svc.Sources.Check(ctx, args.Source, report)
	}
	return svc.checkSite(ctx, args.Site, report)
}

func (svc *Sites) checkSite(ctx context.Context, name string, report progress.Reporter) (*check.Report, error) {
	s, err := svc.DB.Site(ctx, name)
	if err != nil {
		return nil, err
	}
	rep, err := svc.checkAt(ctx, s, report)
	if err != nil {
		return nil, err
	}
	return rep, errors.Join(svc.DB.SetReport(ctx, s.Name, rep), svc.askName(ctx, s))
}

// checkAt checks a site where a record says that it is.
func (svc *Sites) checkAt(ctx context.Context, s records.Site, report progress.Reporter) (*check.Report, error) {
	h, err := svc.DB.HostByID(ctx, s.HostID)
	if err != nil {
		return nil, err
	}
	k, err := svc.kindOf(ctx, s)
	if err != nil {
		return nil, err
	}
	fsys, server, err := svc.Hosts.Open(ctx, h, s.Plan.Engine)
	if err != nil {
		return nil, err
	}
	defer fsys.Close()
	defer server.Close()
	db, err := svc.siteDatabase(ctx, server, s)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	password, err := svc.Vault.Get(ctx, "site", s.Name, "administrator")
	if err != nil && !errors.Is(err, records.ErrNotFound) {
		return nil, err
	}
	cookie, err := svc.previewCookie(ctx, k, s)
	if err != nil {
		return nil, err
	}
	title, err := siteTitle(ctx, fsys, k, s, db)
	if err != nil {
		return nil, err
	}
	site := check.Site{Address: s.Address, Connect: h.Connect, Private: hosts.Reach(h, s.Address).Private, DNS: svc.DNS, Kind: k,
		Title: title, Visible: s.Visible, Quiet: s.Quiet, Held: s.Held, Database: s.Database, User: s.DBUser,
		Login: s.Admin, Password: password, Origin: s.Plan.Rules, DB: db, Prefix: s.Prefix, FS: fsys, Folder: s.Folder, Cookie: cookie}
	if source, _, err := svc.sourceOfSite(ctx, s); err == nil {
		site.Source = source
	}
	if site.SubSites, err = subSites(ctx, fsys, k, s, db); err != nil {
		return nil, err
	}
	return check.Run(ctx, site, report)
}

// subSites returns the sites of a network, as it is now.
func subSites(ctx context.Context, fsys hostfs.FS, k *kind.Kind, s records.Site, db sitedb.DB) ([]kind.SubSite, error) {
	if k.Single() == k {
		return nil, nil
	}
	id, err := k.Known(ctx, fsys, s.Folder, s.Code)
	if err != nil {
		return nil, nil // the checks of the site say what is wrong with it
	}
	if err := network.Read(ctx, db, id); err != nil {
		return nil, err
	}
	return id.SubSites, nil
}

// siteTitle returns the title that a site is to show, "" where its kind keeps none or it cannot be read.
func siteTitle(ctx context.Context, fsys hostfs.FS, k *kind.Kind, s records.Site, db sitedb.DB) (string, error) {
	values := sitevalue.Site{Kind: k, Prefix: s.Prefix, DB: db}
	if k.SiteTitle.Setting != "" {
		id, err := k.Known(ctx, fsys, s.Folder, s.Code)
		if err != nil {
			return "", nil // the checks of the site say what is wrong with it
		}
		values.Settings = id.Settings
	}
	return values.Title(ctx)
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
