package provision

import (
	"context"
	"errors"
	"fmt"
	"path"
	"time"

	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/sitedb"
	"nestseed/internal/core/sqltext"
)

// Live is a site that stands.
type Live struct {
	FS       hostfs.FS
	Server   sitedb.Server
	Kind     *kind.Kind
	Folder   string
	Settings string // its settings file, in the folder
	Database string
	User     string
	Prefix   string
	Admin    string
}

// settle is how long the web server may go on with a settings file it has read before: PHP looks again after two
// seconds (opcache.revalidate_freq).
const settle = 3 * time.Second

// NewDatabaseUser gives a live site another database user with another password, and removes the old one when no
// request can need it any more: at every moment the settings file names a user who may work. user is the new
// one's name. It can be called again with the same name after it was interrupted.
func NewDatabaseUser(ctx context.Context, s Live, user string) (password string, err error) {
	name := path.Join(s.Folder, s.Settings)
	text, err := hostfs.ReadFile(s.FS, name, 1<<20)
	if err != nil {
		return "", err
	}
	e, err := s.FS.Stat(name)
	if err != nil {
		return "", err
	}
	id, err := kind.Identify(s.FS, s.Folder, []*kind.Kind{s.Kind})
	if err != nil {
		return "", err
	}
	password = id.Database.Password
	if id.Database.User != user {
		if id.Database.Name != s.Database || id.Database.User != s.User {
			return "", fmt.Errorf("%w: %s names database %s and user %s, not %s and %s as when the site was made; somebody has changed it", ErrPlan, s.Settings, id.Database.Name, id.Database.User, s.Database, s.User)
		}
		password = Password(28)
		if err := s.Server.DropUser(ctx, user); err != nil {
			return "", err
		}
		if err := s.Server.CreateUser(ctx, user, password, s.Database); err != nil {
			return "", err
		}
		settings := kind.ReadSettings(text, s.Folder)
		settings.Set(s.Kind.Settings.Database.User, user)
		settings.Set(s.Kind.Settings.Database.Password, password)
		if err := hostfs.WriteFile(s.FS, name, settings.Bytes(), e.Mode.Perm()); err != nil {
			return "", errors.Join(err, s.Server.DropUser(context.WithoutCancel(ctx), user))
		}
	}
	return password, nil
}

// RemoveOldUser removes the database user that a site had before, when requests that began with it are over.
func RemoveOldUser(ctx context.Context, server sitedb.Server, old string) error {
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(settle):
	}
	return server.DropUser(ctx, old)
}

// NewAdministratorPassword gives the administrator of a live site another password. Errors: ErrPlan when there is
// no such account.
func NewAdministratorPassword(ctx context.Context, s Live, password string) error {
	hash, err := Hash(s.Kind.Admin.Hash, password)
	if err != nil {
		return err
	}
	db, err := s.Server.Open(ctx, s.Database)
	if err != nil {
		return err
	}
	defer db.Close()
	found, err := setPassword(ctx, db, s.Kind, s.Prefix, s.Admin, hash)
	if err == nil && !found {
		err = fmt.Errorf("%w: the site has no account %s any more; its database has the new password, the administrator has not", ErrPlan, s.Admin)
	}
	return err
}

// setPassword gives an account a password, if there is an account of that name.
func setPassword(ctx context.Context, db sitedb.DB, k *kind.Kind, prefix, login, hash string) (found bool, err error) {
	row := k.Admin.Rows[0]
	name, secret := "", ""
	for column, value := range row.Values {
		switch value {
		case "{login}":
			name = column
		case "{hash}":
			secret = column
		}
	}
	if name == "" || secret == "" {
		return false, nil
	}
	table := prefix + row.Table
	if _, found, err := db.Lookup(ctx, table, name, login, name); err != nil || !found {
		return false, err
	}
	_, err = db.Exec(ctx, fmt.Sprintf("UPDATE %s SET %s = ? WHERE %s = ?", sqltext.Quote(table), sqltext.Quote(secret), sqltext.Quote(name)), hash, login)
	return true, err
}
