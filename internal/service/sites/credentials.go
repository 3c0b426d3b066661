package sites

import (
	"context"
	"errors"
	"fmt"

	"nestseed/internal/core/progress"
	"nestseed/internal/core/provision"
	"nestseed/internal/core/sitedb"
	"nestseed/internal/service/engine"
	"nestseed/internal/service/records"
)

// RotateResult names what has new passwords.
type RotateResult struct {
	Site  string `json:"site"`
	User  string `json:"user"`
	Admin string `json:"admin"`
}

// Rotate gives a live site a new database user and password, and its administrator a new password. The vault has each new secret before
// the old one is of no use. An account that was given with its database stays: who made it gives it another password.
func (svc *Sites) Rotate(ctx context.Context, run engine.Run, args SiteArgs, report progress.Reporter) (*RotateResult, error) {
	res, committed, err := svc.rotate(ctx, run, args, report)
	if err != nil && committed && !errors.Is(err, provision.ErrPlan) {
		err = fmt.Errorf("%w: %w", engine.ErrUnfinished, err)
	}
	return res, err
}

func (svc *Sites) rotate(ctx context.Context, run engine.Run, args SiteArgs, report progress.Reporter) (_ *RotateResult, committed bool,
	err error) {
	s, err := svc.DB.SiteByID(ctx, args.SiteID)
	if err != nil {
		return nil, false, err
	}
	o, err := svc.openSite(ctx, s)
	if err != nil {
		return nil, false, err
	}
	defer o.Close()
	user := s.DBUser
	live := provision.Live{FS: o.fs, Server: o.server, Kind: o.kind, Folder: o.Folder, Code: o.Code, Database: args.Database, User: args.User,
		Prefix: s.Prefix,
		Admin:  s.Admin}
	pending := secretOfRun("new database", run.ID)
	if _, given := o.server.(sitedb.Giver); !given && sitedb.HasAccounts(o.server.Scheme()) {
		user = fmt.Sprintf("%s_r%d", args.Database[:min(len(args.Database), 20)], run.ID)
		if ctx, committed, err = svc.rotateDatabase(ctx, run, o, &live, user, pending, report); err != nil {
			return nil, committed, err
		}
	} else if ctx, err = svc.Engine.Commit(ctx, run); err != nil {
		return nil, false, err
	}
	report.Step("Give the administrator a new password", progress.Amount{})
	secret := provision.Password(20)
	before, err := svc.Vault.Get(ctx, "site", s.Name, "administrator")
	if err != nil && !errors.Is(err, records.ErrNotFound) {
		return nil, true, err
	}
	if err := errors.Join(svc.Vault.Put(ctx, "site", s.Name, "administrator", secret), svc.Engine.Still(ctx)); err != nil {
		return nil, true, err
	}
	if err := provision.NewAdministratorPassword(ctx, live, secret); err != nil {
		return nil, true, errors.Join(err, svc.Vault.Put(ctx, "site", s.Name, "administrator", before))
	}
	if user == args.User {
		return &RotateResult{s.Name, user, s.Admin}, true, nil
	}
	report.Step("Remove the old database user", progress.Amount{})
	if err := provision.RemoveOldUser(ctx, o.server, args.User, svc.DB.Claimed); err != nil {
		return nil, true, err
	}
	return &RotateResult{s.Name, user, s.Admin}, true, svc.DB.RemoveSecrets(ctx, "site", s.Name, pending)
}

// RecoverRotate lets a rotation go on once the database server answers: both accounts work until then.
func (svc *Sites) RecoverRotate(ctx context.Context, run engine.Run, args SiteArgs) (engine.Outcome, error) {
	s, err := svc.DB.SiteByID(ctx, args.SiteID)
	if err != nil {
		return engine.TakenBack, err
	}
	o, err := svc.openSite(ctx, s)
	if err != nil {
		return engine.Again, err
	}
	defer o.Close()
	if _, err := o.server.Version(ctx); err != nil {
		return engine.Again, err
	}
	if run.Committed {
		return engine.Onward, nil
	}
	return engine.Again, nil
}

// rotateDatabase gives a live site another database user, and commits the run. Its password is under the name pending until it is the
// site's.
func (svc *Sites) rotateDatabase(ctx context.Context, run engine.Run, o *openSite, live *provision.Live, user, pending string,
	report progress.Reporter) (_ context.Context, committed bool, err error) {
	password, err := svc.Vault.Get(ctx, "site", o.Name, pending)
	if errors.Is(err, records.ErrNotFound) {
		password = provision.Password(28)
		err = svc.Vault.Put(ctx, "site", o.Name, pending, password)
	}
	if err != nil {
		return ctx, false, err
	}
	old := live.User
	if o.DBUser == old { // and the run was not interrupted behind this point
		if live.Password, err = svc.Vault.Get(ctx, "site", o.Name, "database"); err == nil {
			err = provision.CheckPrograms(ctx, *live)
		}
		if err != nil {
			return ctx, false, err
		}
	}
	if ctx, err = svc.Engine.Commit(ctx, run); err != nil {
		return ctx, false, err
	}
	report.Step("Give the database a new user", progress.Amount{})
	if err := provision.NewDatabaseUser(ctx, *live, user, password); err != nil {
		return ctx, true, err
	}
	live.User, live.Password = user, password
	if err := provision.TakeOverPrograms(ctx, *live, old); err != nil {
		return ctx, true, err
	}
	return ctx, true, svc.DB.Tx(ctx, func(ctx context.Context) error {
		if err := svc.Vault.Put(ctx, "site", o.Name, "database", password); err != nil {
			return err
		}
		return svc.DB.SetSiteUser(ctx, o.ID, user)
	})
}
