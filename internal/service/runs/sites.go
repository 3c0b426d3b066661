package runs

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"html"
	"io/fs"
	"path"
	"strings"
	"time"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/packing"
	"nestseed/internal/core/progress"
	"nestseed/internal/core/provision"
	"nestseed/internal/core/sitedb"
	"nestseed/internal/core/sqltext"
	"nestseed/internal/service/records"
)

// openSite is a site with its host, kind and connections.
type openSite struct {
	records.Site
	kind   *kind.Kind
	fs     hostfs.FS
	server sitedb.Server
}

func (o *openSite) Close() {
	o.fs.Close()
	o.server.Close()
}

func (w *Works) openSite(ctx context.Context, s records.Site) (*openSite, error) {
	k, err := w.kindOf(ctx, s)
	if err != nil {
		return nil, err
	}
	fsys, server, err := w.openHostByID(ctx, s.HostID)
	if err != nil {
		return nil, err
	}
	return &openSite{s, k, fsys, server}, nil
}

// SiteArgs ask for something to be done with a site. What it is at that moment is part of them, so that a run
// that begins again does not do it to what the site has become.
type SiteArgs struct {
	SiteID   int64  `json:"site_id"`
	CopyID   int64  `json:"copy_id,omitempty"`
	Folder   string `json:"folder,omitempty"`  // where the copy lies, and after it was put back what it took the place of
	HostID   int64  `json:"host_id,omitempty"` // that Folder is on, when the site has moved
	RunID    int64  `json:"run_id,omitempty"`  // the run that made the copy
	Database string `json:"database,omitempty"`
	User     string `json:"user,omitempty"`
	NoCopy   bool   `json:"no_copy,omitempty"`
}

// UndoPlan says what undoing the last provisioning of a site will do.
func (w *Works) UndoPlan(ctx context.Context, s records.Site) (SiteArgs, []string, error) {
	args := SiteArgs{SiteID: s.ID, Database: s.Plan.Database, User: s.Plan.User}
	sentences, err := w.undoPlan(ctx, s, &args)
	return args, sentences, err
}

func (w *Works) undoPlan(ctx context.Context, s records.Site, args *SiteArgs) ([]string, error) {
	copies, err := w.DB.SiteCopies(ctx, s.ID)
	if err != nil {
		return nil, err
	}
	for _, c := range copies {
		if c.Why == records.CopyReplaced {
			args.CopyID, args.Folder, args.RunID = c.ID, c.Folder, c.RunID
			if other, err := w.DB.Site(ctx, c.Address); err == nil && other.ID != s.ID {
				return nil, fmt.Errorf("%w: site %s has the address %s by now; move or retire it first", provision.ErrPlan, other.Name, c.Address)
			}
			back := "comes back"
			if c.Address != "" && c.Address != s.Address {
				back += " at " + c.Address
			}
			return []string{
				fmt.Sprintf("the site as it stood until %s %s: its folder and database %s, untouched since", c.MadeAt.Format("2 January 2006, 15:04"), back, c.Plan.Database),
				fmt.Sprintf("what was made of %s since is removed: its folder, database %s and its user", s.Release, s.Plan.Database),
				"the logins that worked then work again",
			}, nil
		}
		if c.Why == records.CopyMoved {
			args.CopyID, args.Folder, args.HostID, args.RunID = c.ID, s.Folder, s.HostID, c.RunID
			return w.undoMovePlan(ctx, s, c)
		}
	}
	last := "its credentials are removed from the vault, and its record with them"
	if len(copies) > 0 {
		last = fmt.Sprintf("its credentials are removed from the vault; its record stays, with %d safety copies", len(copies))
	}
	return []string{
		fmt.Sprintf("the site is removed: folder %s, database %s and its user", s.Plan.Folder, s.Plan.Database),
		"nothing stood there before it, so nothing comes back",
		last,
	}, nil
}

// undoMovePlan says what undoing a move will do. Errors: provision.ErrPlan where the old place is taken.
func (w *Works) undoMovePlan(ctx context.Context, s records.Site, c records.SiteCopy) ([]string, error) {
	h, err := w.DB.HostByID(ctx, *c.HostID)
	if err != nil {
		return nil, err
	}
	if other, err := w.DB.Site(ctx, c.Address); err == nil && other.ID != s.ID {
		return nil, fmt.Errorf("%w: site %s has the address %s by now; move or retire it first", provision.ErrPlan, other.Name, c.Address)
	}
	back := fmt.Sprintf("the site is at %s on host %s again, with folder and database %s as they stood until %s", c.Address, h.Name, c.Plan.Database, c.MadeAt.Format("2 January 2006, 15:04"))
	if c.Serves() {
		back = fmt.Sprintf("the site on host %s, which has gone on serving, is the one that counts again; let %s lead there", h.Name, c.Address)
	} else {
		fsys, server, err := w.OpenHost(ctx, h)
		if err != nil {
			return nil, err
		}
		defer fsys.Close()
		defer server.Close()
		if err := free(fsys, c.Place); err != nil {
			return nil, err
		}
	}
	return []string{back,
		fmt.Sprintf("what was placed at %s on host %s is removed, with all that changed there since: its folder, database %s and its user", s.Address, s.Host, s.Plan.Database),
		"the logins that worked then work again",
	}, nil
}

func (w *Works) undo(ctx context.Context, run records.Run, report progress.Reporter) (any, error) {
	var args SiteArgs
	if err := json.Unmarshal(run.Args, &args); err != nil {
		return nil, err
	}
	s, err := w.DB.SiteByID(ctx, args.SiteID)
	if errors.Is(err, records.ErrNotFound) && args.CopyID == 0 {
		return map[string]string{"site": "removed"}, nil // by this run, before it was interrupted
	}
	if err != nil {
		return nil, err
	}
	if s.RetiredAt != nil {
		return map[string]string{"site": s.Name}, nil
	}
	o, err := w.openSite(ctx, s)
	if err != nil {
		return nil, err
	}
	defer o.Close()
	if ctx, err = w.commit(ctx, run); err != nil {
		return nil, err
	}
	if args.CopyID == 0 {
		report.Step("Remove the site", progress.Amount{})
		if err := w.removeSite(ctx, o); err != nil {
			return nil, err
		}
		copies, err := w.DB.SiteCopies(ctx, s.ID)
		if err != nil {
			return nil, err
		}
		if len(copies) > 0 {
			return map[string]string{"site": s.Name}, w.DB.RetireSite(ctx, s.ID)
		}
		return map[string]string{"site": s.Name}, w.DB.ForgetSite(ctx, s.ID)
	}
	c, err := w.DB.SiteCopyByID(ctx, args.CopyID)
	if err != nil && !errors.Is(err, records.ErrNotFound) {
		return nil, err
	}
	if err == nil {
		report.Step("Put the old site back", progress.Amount{})
		if c.Why == records.CopyMoved {
			err = w.comeBack(ctx, o.kind, c)
		} else {
			err = w.exchangeBack(ctx, o, c)
		}
		if err != nil {
			return nil, err
		}
		if err := w.DB.PutBackSite(ctx, c); err != nil {
			return nil, err
		}
	}
	if err := w.putBack(ctx, s.Name, args.RunID); err != nil {
		return nil, err
	}
	report.Step("Remove what was made since", progress.Amount{})
	fsys, server := o.fs, o.server
	if args.HostID != 0 {
		if fsys, server, err = w.openHostByID(ctx, args.HostID); err != nil {
			return nil, err
		}
		defer fsys.Close()
		defer server.Close()
	}
	return map[string]string{"site": s.Name}, removeFrom(ctx, fsys, server, args.Folder, args.Database, args.User)
}

// removeFrom takes a folder, a database and its user off a host; what is gone already is none the worse.
func removeFrom(ctx context.Context, fsys hostfs.FS, server sitedb.Server, folder, database, user string) error {
	if err := fsys.RemoveAll(folder); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return errors.Join(server.DropDatabase(ctx, database), server.DropUser(ctx, user))
}

// exchangeBack makes the old folder the site's again, unless an interrupted run has done so: the settings file
// says which database the folder that stands there belongs to.
func (w *Works) exchangeBack(ctx context.Context, o *openSite, c records.SiteCopy) error {
	id, err := kind.Identify(o.fs, o.Folder, []*kind.Kind{o.kind})
	if err != nil {
		return fmt.Errorf("the site that stands there: %w", err)
	}
	if id.Database.Name == c.Plan.Database {
		return nil
	}
	if _, err := o.fs.Stat(c.Folder); err != nil {
		return fmt.Errorf("the safety copy is not there any more: %w", err)
	}
	return o.fs.Exchange(o.Folder, c.Folder)
}

// removeSite takes a site off its host, with what it has replaced and left behind, and its secrets out of the vault.
func (w *Works) removeSite(ctx context.Context, o *openSite) error {
	if err := w.dropStanding(ctx, o); err != nil {
		return err
	}
	if err := removeFrom(ctx, o.fs, o.server, o.Folder, o.Plan.Database, o.Plan.User); err != nil {
		return err
	}
	return errors.Join(w.dropPictures(o.ID), w.DB.RemoveSecrets(ctx, "site", o.Name))
}

// dropStanding removes what a site was before it was replaced or has moved, from where it still lies.
func (w *Works) dropStanding(ctx context.Context, o *openSite) error {
	copies, err := w.DB.SiteCopies(ctx, o.ID)
	if err != nil {
		return err
	}
	for _, c := range copies {
		if c.Archive == "" {
			if _, err := w.dropCopy(ctx, o, c); err != nil {
				return err
			}
		}
	}
	return nil
}

// dropCopy removes a safety copy: from the store, or from the host. It returns how many bytes are free there now.
func (w *Works) dropCopy(ctx context.Context, o *openSite, c records.SiteCopy) (freed int64, err error) {
	if c.Archive != "" {
		if err := w.DB.RemoveSiteCopy(ctx, c.ID); err != nil {
			return 0, err
		}
		return w.Store.Remove(c.Archive)
	}
	fsys, server := o.fs, o.server
	if c.HostID != nil && *c.HostID != o.HostID {
		if fsys, server, err = w.openHostByID(ctx, *c.HostID); err != nil {
			return 0, err
		}
		defer fsys.Close()
		defer server.Close()
	} else if c.Folder == o.Folder || c.Plan.Database == o.Plan.Database {
		return 0, fmt.Errorf("safety copy %d names what the site uses now; it is not removed", c.ID)
	}
	if err := removeFrom(ctx, fsys, server, c.Folder, c.Plan.Database, c.Plan.User); err != nil {
		return 0, err
	}
	for _, name := range siteSecrets {
		if err := w.DB.RemoveSecrets(ctx, "site", o.Name, secretOfRun(name, c.RunID)); err != nil {
			return 0, err
		}
	}
	return c.Bytes, w.DB.RemoveSiteCopy(ctx, c.ID)
}

// DropCopy removes a safety copy of a site that somebody does not need any more.
func (w *Works) DropCopy(ctx context.Context, s records.Site, copyID int64) (freed int64, err error) {
	c, err := w.DB.SiteCopyByID(ctx, copyID)
	if err == nil && c.SiteID != s.ID {
		err = fmt.Errorf("site %s has no safety copy %d: %w", s.Name, copyID, records.ErrNotFound)
	}
	if err != nil {
		return 0, err
	}
	o, err := w.openSite(ctx, s)
	if err != nil {
		return 0, err
	}
	defer o.Close()
	return w.dropCopy(ctx, o, c)
}

// CopyResult is a safety copy that was made.
type CopyResult struct {
	Site  string `json:"site"`
	Bytes int64  `json:"bytes"`
}

func (w *Works) keepCopy(ctx context.Context, run records.Run, report progress.Reporter) (any, error) {
	var args SiteArgs
	if err := json.Unmarshal(run.Args, &args); err != nil {
		return nil, err
	}
	s, err := w.DB.SiteByID(ctx, args.SiteID)
	if err != nil {
		return nil, err
	}
	o, err := w.openSite(ctx, s)
	if err != nil {
		return nil, err
	}
	defer o.Close()
	n, err := w.copySite(ctx, run, o, records.CopyAsked, report)
	return CopyResult{s.Name, n}, err
}

// copySite packs a site whole, its accounts and content as they are. The password of its database stays out, as it
// does of every archive; it is in the vault.
func (w *Works) copySite(ctx context.Context, run records.Run, o *openSite, why string, report progress.Reporter) (int64, error) {
	if c, err := w.DB.CopyOfRun(ctx, run.ID); err == nil {
		return c.Bytes, nil // made before the run was interrupted
	}
	id, err := kind.Identify(o.fs, o.Folder, []*kind.Kind{o.kind})
	if err != nil {
		return 0, err
	}
	db, err := o.server.Open(ctx, o.Plan.Database)
	if err != nil {
		return 0, err
	}
	defer db.Close()
	list, err := packing.Parse([]byte(o.kind.Lists["whole-site"]))
	if err != nil {
		return 0, err
	}
	m := archive.Manifest{ID: rand.Text(), Starter: "copy-of-" + o.Name, Number: int(run.ID), Made: time.Now().UTC().Truncate(time.Second), By: run.Who,
		Note: "safety copy", Source: o.Name, Origin: archive.Origin{Address: o.Address}}
	secrets, err := json.Marshal(id.Secrets())
	if err != nil {
		return 0, err
	}
	sealed, err := w.Vault.Seal(secretsPurpose, string(secrets))
	if err != nil {
		return 0, err
	}
	draft, err := w.Store.Create(run.ID)
	if err != nil {
		return 0, err
	}
	defer draft.Drop()
	before, done := w.copyBefore(ctx, o.Site, string(secrets))
	defer done()
	if _, err := archive.Build(ctx, draft, archive.Input{FS: o.fs, Root: o.Folder, DB: db, Identity: id, List: list, Manifest: m, Before: before}, report); err != nil {
		return 0, err
	}
	report.Step("Keep the copy", progress.Amount{})
	name := fmt.Sprintf("copy-of-%s-%s.zip", o.Name, m.ID)
	if err := ctx.Err(); err != nil {
		return 0, err
	}
	size, err := draft.Keep(name)
	if err != nil {
		return 0, err
	}
	ctx = context.WithoutCancel(ctx)
	release := o.ReleaseID
	if err := w.DB.AddSiteCopy(ctx, records.SiteCopy{SiteID: o.ID, Why: why, RunID: run.ID, Bytes: size, Archive: name, ReleaseID: &release, SiteRunID: &o.RunID, SecretsSealed: sealed}); err != nil {
		_, dropped := w.Store.Remove(name)
		return 0, errors.Join(err, dropped)
	}
	return size, nil
}

// copyBefore opens the newest safety copy of a site, for what need not be read again: one that was made of the same
// files, which are those that one run has placed, while the site had the same secrets.
func (w *Works) copyBefore(ctx context.Context, s records.Site, secrets string) (*archive.Archive, func()) {
	nothing := func() {}
	copies, err := w.DB.SiteCopies(ctx, s.ID)
	if err != nil {
		return nil, nothing
	}
	for _, c := range copies {
		if c.Archive == "" || c.SiteRunID == nil || *c.SiteRunID != s.RunID {
			continue
		}
		if was, err := w.Vault.Unseal(secretsPurpose, c.SecretsSealed); err != nil || was != secrets {
			return nil, nothing
		}
		f, size, err := w.Store.Open(c.Archive)
		if err != nil {
			return nil, nothing
		}
		a, err := archive.Open(f, size)
		if err != nil {
			f.Close()
			return nil, nothing
		}
		return a, func() { f.Close() }
	}
	return nil, nothing
}

func (w *Works) retire(ctx context.Context, run records.Run, report progress.Reporter) (any, error) {
	var args SiteArgs
	if err := json.Unmarshal(run.Args, &args); err != nil {
		return nil, err
	}
	s, err := w.DB.SiteByID(ctx, args.SiteID)
	if err != nil {
		return nil, err
	}
	if s.RetiredAt != nil {
		return CopyResult{Site: s.Name}, nil
	}
	o, err := w.openSite(ctx, s)
	if err != nil {
		return nil, err
	}
	defer o.Close()
	var n int64
	if !args.NoCopy {
		if n, err = w.copySite(ctx, run, o, records.CopyRetired, report); err != nil {
			return nil, fmt.Errorf("the site was not retired, as no last safety copy could be made: %w", err)
		}
	}
	if ctx, err = w.commit(ctx, run); err != nil {
		return nil, err
	}
	report.Step("Remove the site", progress.Amount{})
	if err := w.removeSite(ctx, o); err != nil {
		return nil, err
	}
	return CopyResult{s.Name, n}, w.DB.RetireSite(ctx, s.ID)
}

// RotateResult names what has new passwords.
type RotateResult struct {
	Site  string `json:"site"`
	User  string `json:"user"`
	Admin string `json:"admin"`
}

// rotate gives a live site a new database user and password, and its administrator a new password. The vault has
// each new secret before the old one is of no use.
func (w *Works) rotate(ctx context.Context, run records.Run, report progress.Reporter) (any, error) {
	var args SiteArgs
	if err := json.Unmarshal(run.Args, &args); err != nil {
		return nil, err
	}
	s, err := w.DB.SiteByID(ctx, args.SiteID)
	if err != nil {
		return nil, err
	}
	o, err := w.openSite(ctx, s)
	if err != nil {
		return nil, err
	}
	defer o.Close()
	r, err := w.DB.ReleaseByID(ctx, s.ReleaseID)
	if err != nil {
		return nil, err
	}
	live := provision.Live{FS: o.fs, Server: o.server, Kind: o.kind, Folder: o.Folder, Settings: r.Manifest.Settings, Database: args.Database, User: args.User, Prefix: s.Plan.Prefix, Admin: s.Result.Admin}
	if ctx, err = w.commit(ctx, run); err != nil {
		return nil, err
	}
	report.Step("Give the database a new user", progress.Amount{})
	user := fmt.Sprintf("%s_r%d", args.Database[:min(len(args.Database), 20)], run.ID)
	password, err := provision.NewDatabaseUser(ctx, live, user)
	if err == nil {
		err = w.Vault.Put(ctx, "site", s.Name, "database", password)
	}
	if err == nil {
		err = w.DB.SetSiteUser(ctx, s.ID, user)
	}
	if err != nil {
		return nil, err
	}
	report.Step("Give the administrator a new password", progress.Amount{})
	secret := provision.Password(20)
	before, err := w.Vault.Get(ctx, "site", s.Name, "administrator")
	if err != nil && !errors.Is(err, records.ErrNotFound) {
		return nil, err
	}
	if err := w.Vault.Put(ctx, "site", s.Name, "administrator", secret); err != nil {
		return nil, err
	}
	if err := provision.NewAdministratorPassword(ctx, live, secret); err != nil {
		return nil, errors.Join(err, w.Vault.Put(ctx, "site", s.Name, "administrator", before))
	}
	report.Step("Remove the old database user", progress.Amount{})
	return RotateResult{s.Name, user, s.Result.Admin}, provision.RemoveOldUser(ctx, o.server, args.User)
}

// previewSecret is what lets somebody into a site that is held.
const previewSecret = "preview"

// Hold keeps visitors out of a site, or lets them in again; with visible, search engines too, and its mail out. It
// returns the address with which somebody who has it sees the site all the same.
func (w *Works) Hold(ctx context.Context, name string, held, visible bool) (preview string, err error) {
	s, err := w.DB.Site(ctx, name)
	if err != nil {
		return "", err
	}
	o, err := w.openSite(ctx, s)
	if err != nil {
		return "", err
	}
	defer o.Close()
	file := path.Join(o.Folder, o.kind.Hold.File)
	if held {
		text, preview, err := w.holdText(ctx, o.kind, s.Name, s.Address, s.Plan)
		if err != nil {
			return "", err
		}
		if err := o.fs.Mkdir(path.Dir(file), 0o755); err != nil {
			return "", err
		}
		if err := hostfs.WriteFile(o.fs, file, []byte(text), 0o644); err != nil {
			return "", err
		}
		return preview, w.DB.SetHeld(ctx, s.ID, true)
	}
	if s.Held {
		if err := o.fs.RemoveAll(file); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return "", err
		}
		// The key stays: a safety copy of the site may be held with it.
		if err := w.DB.SetHeld(ctx, s.ID, false); err != nil {
			return "", err
		}
	}
	if visible || s.Plan.Visible {
		return "", w.goLive(ctx, o)
	}
	return "", nil
}

// goLive lets search engines in and mail out.
func (w *Works) goLive(ctx context.Context, o *openSite) error {
	db, err := o.server.Open(ctx, o.Plan.Database)
	if err != nil {
		return err
	}
	defer db.Close()
	v, opt := o.kind.Visibility, o.kind.Options
	stmt := fmt.Sprintf("UPDATE %s SET %s = ? WHERE %s = ?", sqltext.Quote(o.Plan.Prefix+opt.Table), sqltext.Quote(opt.Value), sqltext.Quote(opt.Key))
	if _, err := db.Exec(ctx, stmt, v.Visible, v.Option); err != nil {
		return err
	}
	if file := o.kind.Mail.File; file != "" {
		if err := o.fs.RemoveAll(path.Join(o.Folder, file)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return w.DB.SetLive(ctx, o.ID)
}

// holdText returns what the file holds that keeps visitors out, and the address that lets somebody in.
func (w *Works) holdText(ctx context.Context, k *kind.Kind, site, address string, plan *provision.Plan) (text, preview string, err error) {
	hold := k.Hold
	if hold.File == "" {
		return "", "", fmt.Errorf("%w: sites of kind %s cannot be held", provision.ErrPlan, k.Title)
	}
	key, err := w.Vault.Get(ctx, "site", site, previewSecret)
	if errors.Is(err, records.ErrNotFound) {
		key = strings.ToLower(rand.Text())
		err = w.Vault.Put(ctx, "site", site, previewSecret, key)
	}
	if err != nil {
		return "", "", err
	}
	title := ""
	for _, v := range plan.Values {
		if v.Key == "title" {
			title = v.Value
		}
	}
	// The title stands inside a PHP string.
	title = strings.NewReplacer(`\`, "", `'`, "&#039;").Replace(html.EscapeString(title))
	return strings.NewReplacer("{key}", key, "{title}", title).Replace(hold.Text), address + "/?" + hold.Parameter + "=" + key, nil
}

// Places returns how often a release names what is replaced on each site, counted once.
func (w *Works) Places(ctx context.Context, r records.Release, a *archive.Archive) (*records.Places, error) {
	p, err := w.DB.PlacesOf(ctx, r.ID)
	if err != nil || p != nil {
		return p, err
	}
	p = &records.Places{}
	if p.Counts, p.Samples, err = provision.CountPlaces(ctx, a); err != nil {
		return nil, err
	}
	return p, w.DB.SetPlaces(ctx, r.ID, *p)
}
