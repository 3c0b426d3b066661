package provision

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path"
	"strings"
	"time"

	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/sitedb"
	"nestseed/internal/core/sitevalue"
	"nestseed/internal/core/sqltext"
)

// Live is a site that stands.
type Live struct {
	FS       hostfs.FS
	Server   sitedb.Server
	Kind     *kind.Kind
	Folder   string
	Code     string // the folder of code that it shares with others; "" where it has its own
	Database string
	User     string
	Password string // of User
	Prefix   string
	Admin    string
}

// settingsCached is how long the web server may go on with a settings file it has read before: PHP looks again after two
// seconds (opcache.revalidate_freq).
const settingsCached = 3 * time.Second

// NewDatabaseUser gives a live site another database user, with the password given: at every moment the settings file
// names a user who may work. The old one stays until RemoveOldUser. It can be called again with the same name and password
// after it was interrupted.
func NewDatabaseUser(ctx context.Context, s Live, user, password string) error {
	if !sitedb.HasAccounts(s.Server.Scheme()) {
		return nil
	}
	return s.changeSettings(ctx, func(id *kind.Identity, settings kind.Settings) error {
		if id.Database.Name != s.Database || id.Database.User != s.User && id.Database.User != user {
			return fmt.Errorf("%w: %s names database %s and user %s, not %s and %s as when the site was made; somebody has changed it", ErrPlan,
				id.SettingsName(s.Folder), id.Database.Name, id.Database.User, s.Database, s.User)
		}
		if err := s.Server.DropUser(ctx, user); err != nil {
			return err
		}
		if err := s.Server.CreateUser(ctx, user, password, s.Database); err != nil {
			return err
		}
		access := id.Database
		access.User, access.Password = user, password
		s.Kind.Settings.Database.Write(settings, access)
		return nil
	}, func() error { return s.Server.DropUser(context.WithoutCancel(ctx), user) })
}

// changeSettings changes the settings file of a live site, and takes back what change did where the file cannot be written.
func (s Live) changeSettings(ctx context.Context, change func(*kind.Identity, kind.Settings) error, takeBack func() error) error {
	site, err := s.FS.Sub(ctx, s.Folder)
	if err != nil {
		return err
	}
	defer site.Close()
	id, err := s.Kind.Known(ctx, s.FS, s.Folder, s.Code)
	if err != nil {
		return err
	}
	name := id.SettingsName(s.Folder)
	e, err := site.Stat(ctx, name)
	if err != nil {
		return err
	}
	settings := id.Settings.Clone()
	if err := change(id, settings); err != nil {
		return err
	}
	if err := writeSettings(ctx, site, name, path.Join(s.FS.Root(), s.Folder), settings, e.Mode.Perm()); err != nil {
		return errors.Join(err, takeBack())
	}
	return nil
}

// SetValue puts a value into a live site, where its kind keeps it.
func SetValue(ctx context.Context, s Live, place kind.Value, value string) error {
	switch {
	case place.IsZero():
		return nil
	case place.Setting != "":
		return s.changeSettings(ctx, func(_ *kind.Identity, settings kind.Settings) error {
			settings.Set(place.Setting, value)
			return nil
		}, func() error { return nil })
	}
	db, err := s.Server.OpenAs(ctx, s.Database, s.User, s.Password)
	if err != nil {
		return err
	}
	defer db.Close()
	return sitevalue.Site{Kind: s.Kind, Prefix: s.Prefix}.Set(ctx, db, place, value)
}

// RemoveOldUser removes the database user that a site had before, when requests that began with it are over.
func RemoveOldUser(ctx context.Context, server sitedb.Server, old string, still func(context.Context) error) error {
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(settingsCached):
	}
	if err := still(ctx); err != nil {
		return err
	}
	return server.DropUser(ctx, old)
}

// NewAdministratorPassword gives the administrator of a live site another password. Errors: ErrPlan when there is
// no such account.
func NewAdministratorPassword(ctx context.Context, s Live, password string) error {
	id, err := s.Kind.Known(ctx, s.FS, s.Folder, s.Code)
	if err != nil {
		return err
	}
	scheme, of := s.Kind.Admin.Scheme(id.Version), kind.Account{Login: s.Admin, Password: password, Salt: kind.NewSalt()}
	if a := s.Kind.Admin.Settings; a.Hash != "" {
		hash, err := kind.Hash(scheme, of)
		if err != nil {
			return err
		}
		return s.changeSettings(ctx, func(_ *kind.Identity, settings kind.Settings) error {
			settings.Set(a.Hash, hash)
			if a.Salt != "" {
				settings.Set(a.Salt, of.Salt)
			}
			return nil
		}, func() error { return nil })
	}
	db, err := s.Server.OpenAs(ctx, s.Database, s.User, s.Password)
	if err != nil {
		return err
	}
	defer db.Close()
	found, err := setPassword(ctx, db, s.Kind, s.Prefix, scheme, of)
	if err == nil && !found {
		err = fmt.Errorf("%w: the site has no account %s any more; its database has the new password, the administrator has not", ErrPlan,
			s.Admin)
	}
	return err
}

// setPassword gives an account a password, if there is an account of that name. The salt that it has in a column of its own stays, so that
// one write is enough.
func setPassword(ctx context.Context, db sitedb.DB, k *kind.Kind, prefix, scheme string, of kind.Account) (found bool, err error) {
	bare, name, secret, _, ok := k.Admin.Account()
	if !ok {
		return false, nil
	}
	table, salt := prefix+bare, k.Admin.Salt(bare)
	kept, found, err := db.Lookup(ctx, table, name, of.Login, cmp.Or(salt, name))
	if err != nil || !found {
		return false, err
	}
	if salt != "" {
		of.Salt = kept
	}
	hash, err := kind.Hash(scheme, of)
	if err != nil {
		return true, err
	}
	return true, db.SetValue(ctx, table, name, of.Login, secret, hash)
}

// programsOf returns the programs of a live site's database that run with an account's rights. Errors: ErrPlan where one
// cannot be read, and so cannot be recreated.
func programsOf(ctx context.Context, db sitedb.DB, user string) (out []*sqltext.Program, err error) {
	code, err := db.Code(ctx)
	if err != nil {
		return nil, err
	}
	own := map[string]bool{}
	for _, c := range code {
		if name, _, _ := strings.Cut(c.Definer, "@"); name == user {
			own[c.What+" "+c.Name] = true
		}
	}
	if len(own) == 0 {
		return nil, nil
	}
	tables, err := db.Tables(ctx)
	if err != nil {
		return nil, err
	}
	snap, err := db.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	defer snap.Close()
	programs, left, err := snap.Programs(ctx, tables)
	if err != nil {
		return nil, err
	}
	for _, l := range left {
		if own[l.What] {
			return nil, fmt.Errorf("%w: the %s runs with the rights of the database user %s and cannot be recreated for another: %s", ErrPlan,
				l.What, user, l.Reason)
		}
	}
	for _, g := range programs {
		if own[g.String()] {
			out = append(out, g)
		}
	}
	return out, nil
}

// TakeOverPrograms gives views, triggers and routines that run with the rights of a live site's old database user those of
// its new one.
func TakeOverPrograms(ctx context.Context, s Live, old string) error {
	db, err := s.Server.OpenAs(ctx, s.Database, s.User, s.Password)
	if err != nil {
		return err
	}
	defer db.Close()
	programs, err := programsOf(ctx, db, old)
	if err != nil {
		return err
	}
	for _, g := range programs {
		if err := db.Redefine(ctx, g); err != nil {
			return fmt.Errorf("%s: %w", g, err)
		}
	}
	return nil
}

// CheckPrograms looks whether all programs of a live site's database can be given to another user. Errors: ErrPlan.
func CheckPrograms(ctx context.Context, s Live) error {
	db, err := s.Server.OpenAs(ctx, s.Database, s.User, s.Password)
	if err != nil {
		return err
	}
	defer db.Close()
	_, err = programsOf(ctx, db, s.User)
	return err
}
