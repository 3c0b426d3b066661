package sitedb

import (
	"context"
	"errors"
	"time"

	"nestseed/internal/core/sqltext"
)

// None is the server of sites that have no database: nothing is in it, and nothing can be put there.
var None Server = none{}

// errNone says that something was to be put where nothing is.
var errNone = errors.New("the site has no database")

type none struct{}

func (none) Scheme() string                                             { return "none" }
func (none) Version(context.Context) (Version, error)                   { return Version{}, nil }
func (none) Facts(context.Context) (Facts, error)                       { return Facts{Now: time.Now()}, nil }
func (none) Open(context.Context, string) (DB, error)                   { return noDB{}, nil }
func (none) OpenAs(context.Context, string, string, string) (DB, error) { return noDB{}, nil }
func (none) DatabaseExists(context.Context, string) (bool, error)       { return false, nil }
func (none) UserExists(context.Context, string) (bool, error)           { return false, nil }
func (none) CreateDatabase(context.Context, string) error               { return nil }
func (none) DropDatabase(context.Context, string) error                 { return nil }
func (none) CreateUser(_ context.Context, _, _, _ string) error         { return nil }
func (none) DropUser(context.Context, string) error                     { return nil }
func (none) SiteAddress() string                                        { return "" }
func (none) Close() error                                               { return nil }

// noDB is a database without tables. Only what is called with names of tables of others fails.
type noDB struct{}

func (noDB) Tables(context.Context) ([]Table, error)    { return nil, nil }
func (noDB) Version(context.Context) (Version, error)   { return Version{}, nil }
func (noDB) Snapshot(context.Context) (Snapshot, error) { return noSnapshot{}, nil }
func (noDB) Loader(context.Context) (Loader, error)     { return noLoader{}, nil }
func (noDB) Code(context.Context) ([]Code, error)       { return nil, nil }
func (noDB) Close() error                               { return nil }

func (noDB) Lookup(_ context.Context, _, _, _, _ string) (string, bool, error) { return "", false, nil }

func (noDB) Groups(context.Context, *Table, string, int) ([]Group, error) { return nil, nil }

func (noDB) RelatedGroups(context.Context, *Table, string, *Table, string, string) ([]Group, error) {
	return nil, nil
}

func (noDB) Select(context.Context, string, []string, string, []string, func([][]byte) error) error {
	return nil
}

func (noDB) SetValue(_ context.Context, _, _, _, _, _ string) error           { return errNone }
func (noDB) Insert(context.Context, string, map[string]string) (int64, error) { return 0, errNone }
func (noDB) SetColumn(_ context.Context, _, _, _ string) error                { return errNone }
func (noDB) DeleteLike(_ context.Context, _, _, _ string) error               { return nil }
func (noDB) Recount(context.Context, Recount) error                           { return nil }
func (noDB) Empty(context.Context, string) error                              { return nil }
func (noDB) Redefine(context.Context, *sqltext.Program) error                 { return errNone }

type noSnapshot struct{}

func (noSnapshot) Definition(context.Context, *Table) (*sqltext.Definition, error) {
	return nil, errNone
}

func (noSnapshot) Programs(context.Context, []Table) ([]*sqltext.Program, []LeftOut, error) {
	return nil, nil, nil
}

func (noSnapshot) PlainSums(context.Context, string, []Column) ([]uint64, error) { return nil, nil }

func (noSnapshot) Rows(context.Context, *Table, func([][]byte) error) error { return nil }
func (noSnapshot) Close() error                                             { return nil }

type noLoader struct{}

func (noLoader) Load(context.Context, Into, Rows) (int64, error)                 { return 0, errNone }
func (noLoader) Summed(context.Context) (map[string][]string, error)             { return nil, nil }
func (noLoader) Sums(context.Context, string, []string, bool) ([]uint64, error)  { return nil, errNone }
func (noLoader) PlainSums(context.Context, string, []Column) ([]uint64, error)   { return nil, errNone }
func (noLoader) CreateTable(context.Context, *sqltext.Definition, Rename) error  { return errNone }
func (noLoader) AddForeignKey(context.Context, sqltext.ForeignKey, Rename) error { return errNone }
func (noLoader) CreateProgram(context.Context, *sqltext.Program, Rename) error   { return errNone }
func (noLoader) Close() error                                                    { return nil }
