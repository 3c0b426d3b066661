package runs

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"strings"

	"nestseed/internal/core/check"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/progress"
	"nestseed/internal/core/provision"
	"nestseed/internal/core/rewrite"
	"nestseed/internal/service/records"
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
}

const sealPurpose = "values of a provisioning"

// SealValues puts given values into the arguments.
func (w *Works) SealValues(a *ProvisionArgs, given map[string]string) error {
	if len(given) == 0 {
		return nil
	}
	text, err := json.Marshal(given)
	if err != nil {
		return err
	}
	a.Sealed, err = w.Vault.Seal(sealPurpose, string(text))
	return err
}

// Opened is a request with what has to be closed after it.
type Opened struct {
	provision.Request
	Site    records.Site // what will be recorded
	Connect string
	close   []func()
}

// Close ends the connections.
func (o *Opened) Close() {
	for _, c := range o.close {
		c()
	}
}

// Request gathers what a provisioning needs: archive, host, values of the client and those given.
func (w *Works) Request(ctx context.Context, args ProvisionArgs, runID string) (*Opened, error) {
	r, err := w.DB.Release(ctx, args.Release)
	if err != nil {
		return nil, err
	}
	h, err := w.DB.Host(ctx, args.Host)
	if err != nil {
		return nil, err
	}
	c, err := w.DB.Client(ctx, args.Client)
	if err != nil {
		return nil, err
	}
	k, err := kind.Named(w.Kinds, r.Manifest.Kind)
	if err != nil {
		return nil, err
	}
	o := &Opened{Connect: h.Connect}
	a, f, err := w.OpenArchive(r)
	if err != nil {
		return nil, err
	}
	o.close = append(o.close, func() { f.Close() })
	fsys, server, err := w.OpenHost(ctx, h)
	if err != nil {
		o.Close()
		return nil, err
	}
	o.close = append(o.close, func() { fsys.Close(); server.Close() })
	values, err := w.values(ctx, c, args)
	if err != nil {
		o.Close()
		return nil, err
	}
	if args.Name == "" {
		args.Name = c.Name
	}
	if args.Address == "" {
		args.Address = strings.ReplaceAll(h.Address, "{name}", args.Name)
	}
	folder, err := fill(h.WebRoot, args.Name, args.Address)
	if err != nil {
		o.Close()
		return nil, err
	}
	o.Request = provision.Request{Archive: a, Kind: k, FS: fsys, Server: server, Name: args.Name, Folder: folder, Address: args.Address,
		Values: values, Visible: args.Visible, RunID: runID}
	o.Site = records.Site{Name: args.Name, ClientID: c.ID, HostID: h.ID, ReleaseID: r.ID, Folder: folder}
	return o, nil
}

// fill puts a site's name and host name into a host's pattern.
func fill(pattern, name, address string) (string, error) {
	u, err := rewrite.ParseAddress(address)
	if err != nil {
		return "", err
	}
	return strings.NewReplacer("{name}", name, "{host}", u.Hostname()).Replace(pattern), nil
}

func (w *Works) values(ctx context.Context, c records.Client, args ProvisionArgs) (map[string]provision.Given, error) {
	values := map[string]provision.Given{}
	for key, s := range c.Settings {
		v := s.Value
		if s.Secret {
			var err error
			if v, err = w.Vault.Get(ctx, "client", c.Name, key); err != nil {
				return nil, err
			}
		}
		values[key] = provision.Given{Value: v, Origin: "client"}
	}
	if args.Sealed != "" {
		text, err := w.Vault.Unseal(sealPurpose, args.Sealed)
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
	Report *check.Report `json:"report"`
}

func (w *Works) provision(ctx context.Context, run records.Run, report progress.Reporter) (any, error) {
	var args ProvisionArgs
	if err := json.Unmarshal(run.Args, &args); err != nil {
		return nil, err
	}
	o, err := w.Request(ctx, args, fmt.Sprint(run.ID))
	if err != nil {
		return nil, err
	}
	defer o.Close()
	plan, err := provision.Prepare(ctx, o.Request)
	if err != nil {
		return nil, err
	}
	res, err := provision.Make(ctx, o.Request, plan, journal{w.DB, run.ID}, report)
	if err == nil {
		if err = w.keep(ctx, run, o, plan, res); err != nil {
			err = errors.Join(err, w.takeBack(context.WithoutCancel(ctx), run, o))
		}
	} else {
		err = errors.Join(err, w.forgetIfGone(context.WithoutCancel(ctx), run, err))
	}
	if err != nil {
		return nil, err
	}
	out := ProvisionResult{Site: plan.Name, Address: plan.Address, Result: res}
	// The site stands. A fault in checking it is told, and does not take it down again.
	if out.Report, err = w.checkSite(ctx, plan.Name, report); err != nil {
		report.Note(fmt.Sprintf("the site could not be checked: %v", err))
	}
	return out, nil
}

// keep seals the credentials and records the site.
func (w *Works) keep(ctx context.Context, run records.Run, o *Opened, plan *provision.Plan, res *provision.Result) error {
	for name, secret := range map[string]string{"administrator": res.AdminPassword, "database": res.UserPassword} {
		if err := w.Vault.Put(ctx, "site", plan.Name, name, secret); err != nil {
			return err
		}
	}
	s := o.Site
	s.RunID, s.Address, s.Plan, s.Result = run.ID, plan.Address, plan, res
	if err := w.DB.AddSite(ctx, s); err != nil {
		return err
	}
	var tasks []records.LaunchTask
	for _, t := range o.Archive.Manifest.List.LaunchTasks {
		tasks = append(tasks, records.LaunchTask{Key: t.Key, Title: t.Title, Detail: t.Detail, Page: t.Page})
	}
	if err := w.DB.AddLaunchTasks(ctx, s.Name, tasks); err != nil {
		return err
	}
	return w.DB.ClearMade(ctx, run.ID)
}

// takeBack undoes what the journal says.
func (w *Works) takeBack(ctx context.Context, run records.Run, o *Opened) error {
	made, err := w.DB.Made(ctx, run.ID)
	if err != nil {
		return err
	}
	if err := provision.Undo(ctx, o.FS, o.Server, made); err != nil {
		return err
	}
	return errors.Join(w.DB.ClearMade(ctx, run.ID), w.DB.RemoveSecrets(ctx, "site", o.Name))
}

// forgetIfGone empties the journal after Make took everything back itself.
func (w *Works) forgetIfGone(ctx context.Context, run records.Run, err error) error {
	if errors.Is(err, provision.ErrLeftBehind) {
		return nil // the journal still says what there is to take back
	}
	return w.DB.ClearMade(ctx, run.ID)
}

func (w *Works) recoverProvision(ctx context.Context, run records.Run) (Outcome, error) {
	made, err := w.DB.SiteOfRun(ctx, run.ID)
	if err != nil {
		return TakenBack, err
	}
	if made {
		return Finished, w.DB.ClearMade(ctx, run.ID)
	}
	var args ProvisionArgs
	if err := json.Unmarshal(run.Args, &args); err != nil {
		return TakenBack, err
	}
	o, err := w.Request(ctx, args, fmt.Sprint(run.ID))
	if err != nil {
		return TakenBack, err
	}
	defer o.Close()
	return TakenBack, w.takeBack(ctx, run, o)
}

// CheckArgs ask for a site to be checked.
type CheckArgs struct {
	Site string `json:"site"`
}

func (w *Works) check(ctx context.Context, run records.Run, report progress.Reporter) (any, error) {
	var args CheckArgs
	if err := json.Unmarshal(run.Args, &args); err != nil {
		return nil, err
	}
	return w.checkSite(ctx, args.Site, report)
}

func (w *Works) checkSite(ctx context.Context, name string, report progress.Reporter) (*check.Report, error) {
	s, err := w.DB.Site(ctx, name)
	if err != nil {
		return nil, err
	}
	h, err := w.DB.HostByID(ctx, s.HostID)
	if err != nil {
		return nil, err
	}
	r, err := w.DB.ReleaseByID(ctx, s.ReleaseID)
	if err != nil {
		return nil, err
	}
	k, err := kind.Named(w.Kinds, r.Manifest.Kind)
	if err != nil {
		return nil, err
	}
	fsys, server, err := w.OpenHost(ctx, h)
	if err != nil {
		return nil, err
	}
	defer fsys.Close()
	defer server.Close()
	db, err := server.Open(ctx, s.Plan.Database)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	password, err := w.Vault.Get(ctx, "site", s.Name, "administrator")
	if err != nil {
		return nil, err
	}
	title, _, err := db.Lookup(ctx, s.Plan.Prefix+k.Options.Table, k.Options.Key, k.SiteTitle, k.Options.Value)
	if err != nil {
		return nil, err
	}
	rep, err := check.Run(ctx, check.Site{Address: s.Address, Connect: h.Connect, Kind: k, Title: plainTitle(title), Visible: s.Plan.Visible,
		Login: s.Result.Admin, Password: password, Origin: s.Plan.Rules, DB: db, Prefix: s.Plan.Prefix, FS: fsys, Folder: s.Folder}, report)
	if err != nil {
		return nil, err
	}
	return rep, w.DB.SetReport(ctx, s.Name, rep)
}

// plainTitle undoes the escaping that some CMSs store titles with.
func plainTitle(t string) string {
	return strings.NewReplacer("&amp;", "&", "&#039;", "'", "&quot;", `"`).Replace(t)
}

// Target names what a run works on, so that one run at a time does.
func Target(noun, name string) string { return noun + ":" + url.PathEscape(name) }
