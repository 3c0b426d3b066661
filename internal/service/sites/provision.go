package sites

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"nestseed/internal/core/check"
	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/progress"
	"nestseed/internal/core/provision"
	"nestseed/internal/core/sitedb"
	"nestseed/internal/service/engine"
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
	Unchecked bool    `json:"unchecked,omitempty"`
	Despite   Despite `json:"despite,omitzero"`
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

// ProvisionResult is the site that was made.
type ProvisionResult struct {
	Site    string `json:"site"`
	Address string `json:"address"`
	*provision.Result
	Login  string        `json:"login"` // which login works, in a sentence
	Report *check.Report `json:"report"`
	// NewFaults are the checks that failed by something that was not there before: in the source, or on the site that was replaced.
	NewFaults []string `json:"new_faults"`
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
	o, err := svc.Request(ctx, args, run.Token())
	if err != nil {
		return nil, err
	}
	defer o.Close()
	plan, err := provision.Prepare(ctx, o.Request)
	if err == nil {
		err = svc.CheckPlan(ctx, plan, args)
	}
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
	checks, err := svc.Expect(ctx, o, plan)
	if err != nil {
		return nil, err
	}
	share := makingShare(plan, checks)
	if args.Unchecked {
		share = 1
	}
	var before *check.Report
	if o.Old != nil && !args.Unchecked {
		if before = o.Old.Report; args.Refresh {
			before = svc.before(ctx, *o.Old)
		}
	}
	journal := svc.DB.Journal(run.ID, whereOn(o.Site.HostID, plan.Engine))
	res, err := provision.Make(ctx, o.Request, plan, journal, progress.Within(report, 0, share))
	if err == nil {
		if err = svc.keep(ctx, run, o, plan, res); err != nil && !errors.Is(err, engine.ErrCleanup) {
			err = errors.Join(err, svc.takeBack(context.WithoutCancel(ctx), run, o.FS, o.Server))
		}
	} else {
		err = errors.Join(err, svc.forgetIfGone(context.WithoutCancel(ctx), run, err))
	}
	if err != nil {
		return nil, err
	}
	out := &ProvisionResult{Site: plan.Name, Address: plan.Address, Result: res, Login: LoginSentence(plan.Name, res)}
	if args.Unchecked {
		return out, nil
	}
	// The site stands. A fault in checking it is told, and does not take it down again.
	var how checking
	if !args.Refresh && len(args.Keep) == 0 {
		how.placed = o.Archive
	}
	if out.Report, err = svc.checkSite(ctx, plan.Name, how, progress.Within(report, share, 1)); err != nil {
		report.Note(fmt.Sprintf("the site could not be checked: %v", err))
		return out, nil
	}
	s, err := svc.DB.Site(ctx, plan.Name)
	if err != nil {
		return out, err
	}
	fresh, err := svc.newFaults(ctx, s.ID, before, out.Report, args.Despite)
	out.NewFaults = faultNames(fresh)
	return out, errors.Join(err, svc.acceptDespite(ctx, s.ID, out.Report, args.Despite, run.Who))
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

// keep commits the run, seals the credentials and records the site, at one moment. With an error there is no record of it.
func (svc *Sites) keep(ctx context.Context, run engine.Run, o *Opened, plan *provision.Plan, res *provision.Result) error {
	ctx, err := svc.Engine.Commit(ctx, run)
	if err != nil {
		return err
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
	return svc.unlessRecorded(ctx, run, svc.DB.Tx(ctx, func(ctx context.Context) error {
		if err := svc.putSecrets(ctx, plan.Name, run.ID, o.Old != nil, res); err != nil {
			return err
		}
		if o.Old != nil {
			return svc.DB.ReplaceSite(ctx, *o.Old, s, res.CopyFolder, o.Old.Plan.Bytes, tasks)
		}
		return svc.DB.AddSite(ctx, s, tasks)
	}))
}

// putSecrets makes the credentials of a result those of a site. Those that it had are put aside for the safety copy.
func (svc *Sites) putSecrets(ctx context.Context, site string, runID int64, had bool, res *provision.Result) error {
	if had {
		if err := svc.stashSecrets(ctx, site, runID); err != nil {
			return err
		}
	}
	for name, secret := range map[string]string{"administrator": res.AdminPassword, "database": res.UserPassword} {
		if secret == "" {
			continue // the accounts that were there stay
		}
		if err := svc.Vault.Put(ctx, "site", site, name, secret); err != nil {
			return err
		}
	}
	return nil
}

// unlessRecorded is an error of recording a run's site, unless it is recorded: an answer that was lost on its way may have been yes. When
// nobody can tell, the run is left for whoever recovers it. Errors: engine.ErrCleanup.
func (svc *Sites) unlessRecorded(ctx context.Context, run engine.Run, err error) error {
	if err == nil {
		return nil
	}
	switch made, asked := svc.DB.SiteOfRun(ctx, run.ID); {
	case asked != nil:
		return fmt.Errorf("%w: %w", engine.ErrCleanup, err)
	case made:
		return nil
	}
	return err
}

// takeBack undoes what a run's journal says, and empties it. Errors: engine.ErrCleanup.
func (svc *Sites) takeBack(ctx context.Context, run engine.Run, fsys hostfs.FS, server sitedb.Server) error {
	made, err := svc.DB.Made(ctx, run.ID)
	if err == nil {
		err = provision.Undo(ctx, fsys, server, made, svc.DB.Claimed)
	}
	if err == nil {
		err = svc.DB.ClearMade(ctx, run.ID)
	}
	if err != nil {
		return fmt.Errorf("%w: %w", engine.ErrCleanup, err)
	}
	return nil
}

// forgetIfGone empties the journal after Make took everything back itself.
func (svc *Sites) forgetIfGone(ctx context.Context, run engine.Run, err error) error {
	if errors.Is(err, provision.ErrLeftBehind) {
		return engine.ErrCleanup // the journal still says what there is to take back
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
	o, err := svc.Request(ctx, args, run.Token())
	if err != nil {
		return engine.TakenBack, err
	}
	defer o.Close()
	return engine.TakenBack, svc.takeBack(ctx, run, o.FS, o.Server)
}
