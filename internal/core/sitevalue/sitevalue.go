// Package sitevalue reads and writes single values of a site where its kind keeps them: options, cells, settings, and what lies
// inside serialised or JSON ones.
//
//	site := sitevalue.Site{Kind: k, Prefix: "lad_", DB: db, Settings: settings}
//	title, found, err := site.Get(ctx, kind.Value{Option: "blogname"})
package sitevalue

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"nestseed/internal/core/kind"
	"nestseed/internal/core/optval"
	"nestseed/internal/core/sitedb"
)

// Site is what values are kept in. Without DB, or without Settings, what is there is not found.
type Site struct {
	Kind     *kind.Kind
	Prefix   string
	DB       sitedb.Reader
	Settings kind.Settings
}

// ErrInside says that a value holds no value at the path that was asked for.
var ErrInside = errors.New("is not found inside the value")

// ErrNoPlace says that there is no row, or no option, to put a value into.
var ErrNoPlace = errors.New("is not there")

// Get returns a value. Errors: ErrInside; kind.ErrUnreadable for settings that are computed.
func (s Site) Get(ctx context.Context, v kind.Value) (text string, found bool, err error) {
	if v.Setting != "" {
		if s.Settings == nil || !s.Settings.Has(v.Setting) {
			return "", false, nil
		}
		text, err = s.Settings.Get(v.Setting)
		return text, err == nil, err
	}
	raw, found, err := s.raw(ctx, v)
	if err != nil || !found {
		return "", false, err
	}
	if text, err = optval.Lookup([]byte(raw), v.Path...); err != nil {
		return "", false, fmt.Errorf("%s %w: %w", v, ErrInside, err)
	}
	return text, true, nil
}

// Title returns the title of the site as people read it: some CMSs keep it escaped for HTML. It is "" where there is none that can be
// read.
func (s Site) Title(ctx context.Context) (string, error) {
	title, _, err := s.Get(ctx, s.Kind.SiteTitle)
	if errors.Is(err, ErrInside) || errors.Is(err, kind.ErrUnreadable) {
		return "", nil
	}
	return strings.NewReplacer("&amp;", "&", "&#039;", "'", "&quot;", `"`).Replace(title), err
}

// Option returns an option as it is stored.
func (s Site) Option(ctx context.Context, name string) (raw string, found bool, err error) {
	return s.raw(ctx, kind.Value{Option: name})
}

// cell returns where in the database a value is kept.
func (s Site) cell(v kind.Value) kind.Spot {
	if v.Cell != nil {
		c := *v.Cell
		c.Table = s.Prefix + c.Table
		return c
	}
	o := s.Kind.Options
	return kind.Spot{Table: s.Prefix + o.Table, Column: o.Value, Where: o.Key, Is: v.Option}
}

func (s Site) raw(ctx context.Context, v kind.Value) (string, bool, error) {
	if s.DB == nil || !v.InDatabase() || v.Cell == nil && s.Kind.Options.Table == "" {
		return "", false, nil
	}
	c := s.cell(v)
	return s.DB.Lookup(ctx, c.Table, c.Where, c.Is, c.Column)
}

// Set puts a value into the database db. A plain option that is not there is added. Errors: ErrNoPlace, where a row, or an option with
// something inside, is not there.
func (s Site) Set(ctx context.Context, db sitedb.DB, v kind.Value, value string) error {
	s.DB = db
	c := s.cell(v)
	if v.Cell != nil || len(v.Path) > 0 {
		raw, found, err := s.raw(ctx, v)
		if err != nil {
			return err
		}
		if !found {
			return fmt.Errorf("%s %w", v, ErrNoPlace)
		}
		fresh, err := optval.Set([]byte(raw), value, v.Path...)
		if err != nil {
			return err
		}
		value = string(fresh)
	}
	return db.SetValue(ctx, c.Table, c.Where, c.Is, c.Column, value)
}

// Options calls each with the name and value of every option, where the kind has such a table.
func (s Site) Options(ctx context.Context, db sitedb.DB, each func(name string, value []byte) error) error {
	o := s.Kind.Options
	if o.Table == "" {
		return nil
	}
	return db.Select(ctx, s.Prefix+o.Table, []string{o.Key, o.Value}, o.Key, nil, func(row [][]byte) error {
		return each(string(row[0]), row[1])
	})
}
