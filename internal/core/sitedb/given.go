package sitedb

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
)

// Giver is a Server that makes neither databases nor accounts: it has some that somebody else has made, each with an account of its own, as
// hosting companies do. What it makes is one of those that are empty, and what it drops is empty again.
type Giver interface {
	// Give returns a database that nothing is in, with its account. Errors: ErrNoneLeft.
	Give(ctx context.Context) (database, user string, err error)
	// Password is that of a database's account.
	Password(database string) string
	// Take makes a database that of an owner, as long as it is not dropped: names of databases that are given are used again, and owners
	// are not. Errors: ErrExists.
	Take(ctx context.Context, database, owner string) error
	// Owner returns whose a database is; "" for nobody's.
	Owner(ctx context.Context, database string) (string, error)
	// Adopt returns whose a database is; one that is not empty and has no owner, as of an earlier version of this service, gets one.
	Adopt(ctx context.Context, database string) (string, error)
	// Drop drops everything in a database, if it is an owner's.
	Drop(ctx context.Context, database, owner string) error
	// Given lists the databases, and says of each whether something is in it.
	Given(ctx context.Context) (names []string, used map[string]bool, err error)
}

// ErrNoneLeft says that something is in every database that was given.
var ErrNoneLeft = errors.New("every database that the host was given has tables in it")

// OwnerTable marks a database that was given: its one column is called as the owner is. It is no table of the site's.
const OwnerTable = "nestseed_owner"

// WithoutOwner leaves the mark out of the tables of a database.
func WithoutOwner(tables []Table) []Table {
	return slices.DeleteFunc(tables, func(t Table) bool { return t.Name == OwnerTable })
}

// clearer is a DB that can be emptied as a whole by the account that works in it.
type clearer interface {
	Take(ctx context.Context, owner string) error
	Owner(ctx context.Context) (string, error)
	Release(ctx context.Context) error
	Clear(ctx context.Context, owner string) error
}

type given struct {
	Server // of the first: all are of one engine
	all    []givenDatabase
}

type givenDatabase struct {
	name, user, password string
	server               Server
}

// IsGiven reports whether an address names a database, and not a server on which there may be any.
func IsGiven(address string) bool {
	u, err := url.Parse(address)
	if err != nil {
		return false
	}
	name := strings.Trim(u.Path, "/")
	return name != "" && name != "postgres" // which every PostgreSQL server has, to log in to
}

// NewGiven makes a Server of databases that are there, by their addresses. connect opens one.
func NewGiven(addresses []string, connect func(address string) (Server, error)) (_ Server, err error) {
	g := &given{}
	defer func() {
		if err != nil {
			g.Close()
		}
	}()
	for _, a := range addresses {
		u, err := url.Parse(a)
		if err != nil {
			return nil, errors.New("the database address cannot be read")
		}
		d := givenDatabase{name: strings.Trim(u.Path, "/"), user: u.User.Username()}
		d.password, _ = u.User.Password()
		if d.server, err = connect(a); err != nil {
			return nil, err
		}
		g.all = append(g.all, d)
	}
	g.Server = g.all[0].server
	return g, nil
}

func (g *given) find(name string) (givenDatabase, error) {
	if i := slices.IndexFunc(g.all, func(d givenDatabase) bool { return d.name == name }); i >= 0 {
		return g.all[i], nil
	}
	return givenDatabase{}, fmt.Errorf("database %s is not one that the host was given", name)
}

// Close implements Server.
func (g *given) Close() (err error) {
	for _, d := range g.all {
		err = errors.Join(err, d.server.Close())
	}
	return err
}

// Version implements Server.
func (g *given) Version(ctx context.Context) (v Version, err error) {
	err = g.with(ctx, g.all[0].name, func(db DB) error {
		v, err = db.Version(ctx)
		return err
	})
	return v, err
}

// Open implements Server.
func (g *given) Open(ctx context.Context, name string) (DB, error) {
	d, err := g.find(name)
	if err != nil {
		return nil, err
	}
	return d.server.Open(ctx, name)
}

// OpenAs implements Server: a database has one account.
func (g *given) OpenAs(ctx context.Context, name, user, password string) (DB, error) {
	d, err := g.find(name)
	if err != nil {
		return nil, err
	}
	if user != d.user {
		return d.server.OpenAs(ctx, name, user, password)
	}
	return d.server.Open(ctx, name)
}

func (g *given) with(ctx context.Context, name string, do func(DB) error) error {
	db, err := g.Open(ctx, name)
	if err != nil {
		return err
	}
	defer db.Close()
	return do(db)
}

// used reports whether something is in a database.
func (g *given) used(ctx context.Context, name string) (is bool, err error) {
	err = g.with(ctx, name, func(db DB) error {
		tables, err := db.Tables(ctx)
		if is = len(tables) > 0; is || err != nil {
			return err
		}
		if c, can := db.(clearer); can {
			owner, err := c.Owner(ctx)
			is = owner != ""
			return err
		}
		return nil
	})
	return is, err
}

// Given implements Giver.
func (g *given) Given(ctx context.Context) (names []string, used map[string]bool, err error) {
	used = map[string]bool{}
	for _, d := range g.all {
		names = append(names, d.name)
		if used[d.name], err = g.used(ctx, d.name); err != nil {
			return nil, nil, err
		}
	}
	return names, used, nil
}

// Give implements Giver.
func (g *given) Give(ctx context.Context) (database, user string, err error) {
	for _, d := range g.all {
		if used, err := g.used(ctx, d.name); err != nil {
			return "", "", err
		} else if !used {
			return d.name, d.user, nil
		}
	}
	return "", "", fmt.Errorf("%w; have another made at the hosting company, and add it to the host", ErrNoneLeft)
}

// Password implements Giver.
func (g *given) Password(database string) string {
	d, _ := g.find(database)
	return d.password
}

// DatabaseExists implements Server.
func (g *given) DatabaseExists(ctx context.Context, name string) (bool, error) {
	return g.used(ctx, name)
}

// UserExists implements Server.
func (g *given) UserExists(context.Context, string) (bool, error) { return false, nil }

// CreateDatabase implements Server: it is there, and somebody takes it.
func (g *given) CreateDatabase(ctx context.Context, name string) error {
	return g.Take(ctx, name, rand.Text())
}

// DropDatabase implements Server: whoever has it says so, to Drop.
func (g *given) DropDatabase(_ context.Context, name string) error {
	return fmt.Errorf("%w: database %s is emptied by its owner alone", ErrDenied, name)
}

func (g *given) cleared(ctx context.Context, name string, do func(db DB, c clearer) error) error {
	return g.with(ctx, name, func(db DB) error {
		c, can := db.(clearer)
		if !can {
			return fmt.Errorf("%w: a database of this sort cannot be given", ErrUnsupported)
		}
		return do(db, c)
	})
}

// Take implements Giver.
func (g *given) Take(ctx context.Context, name, owner string) error {
	return g.cleared(ctx, name, func(db DB, c clearer) error {
		if err := c.Take(ctx, owner); err != nil {
			return err
		}
		tables, err := db.Tables(ctx)
		if err == nil && len(tables) > 0 {
			err = errors.Join(fmt.Errorf("database %s %w: there are tables in it", name, ErrExists), c.Release(ctx))
		}
		return err
	})
}

// Owner implements Giver.
func (g *given) Owner(ctx context.Context, name string) (owner string, err error) {
	err = g.cleared(ctx, name, func(_ DB, c clearer) error {
		owner, err = c.Owner(ctx)
		return err
	})
	return owner, err
}

// Adopt implements Giver.
func (g *given) Adopt(ctx context.Context, name string) (owner string, err error) {
	err = g.cleared(ctx, name, func(db DB, c clearer) error {
		if owner, err = c.Owner(ctx); err != nil || owner != "" {
			return err
		}
		if tables, err := db.Tables(ctx); err != nil || len(tables) == 0 {
			return err
		}
		owner = rand.Text()
		return c.Take(ctx, owner)
	})
	return owner, err
}

// Drop implements Giver.
func (g *given) Drop(ctx context.Context, name, owner string) error {
	return g.cleared(ctx, name, func(_ DB, c clearer) error {
		if owner == "" {
			return nil
		}
		return c.Clear(ctx, owner)
	})
}

// CreateUser implements Server: it is there.
func (g *given) CreateUser(_ context.Context, user, _, database string) error {
	if d, err := g.find(database); err != nil || d.user != user {
		return errors.Join(err, fmt.Errorf("%w: accounts are made by the hosting company, and %s is not that of %s", ErrDenied, user, database))
	}
	return nil
}

// DropUser implements Server: it stays.
func (g *given) DropUser(context.Context, string) error { return nil }
