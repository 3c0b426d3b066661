package sitedb

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"
)

// TableProver is a DB that tells whether something has a name that is not a table in which rows are kept: a view, a foreign table or a
// virtual one runs whatever the site has put there when it is read.
type TableProver interface {
	NoTable(ctx context.Context, name string) (bool, error)
}

// ErrNotTable says that what is read under the name of a table is none.
var ErrNotTable = errors.New("is a view or something else that runs programs of the site when it is read; only tables are read")

// How long one statement that reads a site may take: of one cell, and of all rows of a table. A table that is packed may take longer; it is
// read a row at a time.
const (
	lookupTime = time.Minute
	selectTime = 10 * time.Minute
)

// Guard returns a DB for a site that is not trusted: it reads from names that were proved to be those of tables, each within a time.
func Guard(db DB) DB {
	p, is := db.(TableProver)
	if !is {
		return db
	}
	return &guarded{DB: db, prover: p, tables: map[string]bool{}}
}

type guarded struct {
	DB
	prover TableProver
	mu     sync.Mutex
	tables map[string]bool // that were proved to be tables
}

func (g *guarded) prove(ctx context.Context, tables ...string) error {
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, name := range tables {
		if g.tables[name] {
			continue
		}
		switch other, err := g.prover.NoTable(ctx, name); {
		case err != nil:
			return err
		case other:
			return fmt.Errorf("%s %w", name, ErrNotTable)
		}
		g.tables[name] = true
	}
	return nil
}

func (g *guarded) Lookup(ctx context.Context, table, keyColumn, key, valueColumn string) (string, bool, error) {
	ctx, cancel := context.WithTimeout(ctx, lookupTime)
	defer cancel()
	if err := g.prove(ctx, table); err != nil {
		return "", false, err
	}
	return g.DB.Lookup(ctx, table, keyColumn, key, valueColumn)
}

func (g *guarded) Groups(ctx context.Context, t *Table, column string, limit int) ([]Group, error) {
	ctx, cancel := context.WithTimeout(ctx, selectTime)
	defer cancel()
	if err := g.prove(ctx, t.Name); err != nil {
		return nil, err
	}
	return g.DB.Groups(ctx, t, column, limit)
}

func (g *guarded) RelatedGroups(ctx context.Context, t *Table, column string, to *Table, key, by string) ([]Group, error) {
	ctx, cancel := context.WithTimeout(ctx, selectTime)
	defer cancel()
	if err := g.prove(ctx, t.Name, to.Name); err != nil {
		return nil, err
	}
	return g.DB.RelatedGroups(ctx, t, column, to, key, by)
}

func (g *guarded) Select(ctx context.Context, table string, columns []string, where string, values []string,
	each func(row [][]byte) error) error {
	ctx, cancel := context.WithTimeout(ctx, selectTime)
	defer cancel()
	if err := g.prove(ctx, table); err != nil {
		return err
	}
	return g.DB.Select(ctx, table, columns, where, values, each)
}
