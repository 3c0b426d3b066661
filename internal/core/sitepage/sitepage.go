// Package sitepage places pages of ours in folders that a web server runs programs from, asks nothing itself, and removes them.
//
//	p, err := spot.Place(ctx, ".php", 0o644, func(stem string) []byte { … })
//	defer p.Remove(ctx)
//
// A page has a name that cannot be guessed and is used once. Its name is in a journal before the page is written and until it is removed,
// so that one that a killed process or a full disk has left is found and removed by Clear, whoever calls it.
package sitepage

import (
	"context"
	"crypto/rand"
	"errors"
	"io/fs"
	"path"
	"strings"
	"time"

	"nestseed/internal/core/hostfs"
)

// Prefix begins the names of all pages: no release holds a file with such a name, and no check reads one.
const Prefix = "nestseed-asks-"

// Silent is how long a page answers after it was placed.
const Silent = 10 * time.Minute

// removeWithin is how long the removal of a page may take when the work that it was for has been cancelled.
const removeWithin = 30 * time.Second

// Journal keeps the names of the pages in one folder.
type Journal interface {
	// Placing is called before a page is written. An error keeps it from being written.
	Placing(ctx context.Context, name string) error
	// Left is called when a page could not be removed, by whoever placed it.
	Left(ctx context.Context, name string) error
	// Removed is called when a page has been removed.
	Removed(ctx context.Context, name string) error
}

// Unrecorded is the journal of a place that no record names yet.
type Unrecorded struct{}

func (Unrecorded) Placing(context.Context, string) error { return nil }
func (Unrecorded) Left(context.Context, string) error    { return nil }
func (Unrecorded) Removed(context.Context, string) error { return nil }

// Spot is a folder that pages are placed in.
type Spot struct {
	Folder  hostfs.FS
	Journal Journal
}

// Page is a file that was placed.
type Page struct {
	Name string // in the folder
	spot Spot
}

// Place writes a page. Its content is made for its name without the ending.
func (s Spot) Place(ctx context.Context, ending string, mode fs.FileMode, content func(stem string) []byte) (*Page, error) {
	stem := Prefix + strings.ToLower(rand.Text())
	p := &Page{stem + ending, s}
	if err := s.Journal.Placing(ctx, p.Name); err != nil {
		return nil, err
	}
	if err := hostfs.WriteNew(ctx, s.Folder, p.Name, content(stem), mode); err != nil {
		return nil, errors.Join(err, p.Remove(ctx))
	}
	return p, nil
}

// PlaceFolder makes a folder for a page of several files, which write writes. Remove and Clear remove all of it.
func (s Spot) PlaceFolder(ctx context.Context, write func(folder hostfs.FS) error) (*Page, error) {
	p := &Page{Prefix + strings.ToLower(rand.Text()), s}
	if err := s.Journal.Placing(ctx, p.Name); err != nil {
		return nil, err
	}
	folder, err := s.Folder.MakeSub(ctx, p.Name)
	if err == nil {
		err = errors.Join(write(folder), folder.Close())
	}
	if err != nil {
		return nil, errors.Join(err, p.Remove(ctx))
	}
	return p, nil
}

// Remove removes the page, also when the context has ended. What fails here is done by Clear.
func (p *Page) Remove(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), removeWithin)
	defer cancel()
	err := p.spot.Clear(ctx, p.Name)
	if err != nil {
		err = errors.Join(err, p.spot.Journal.Left(context.WithoutCancel(ctx), p.Name))
	}
	return err
}

// Clear removes a page that a journal names, if it is there.
func (s Spot) Clear(ctx context.Context, name string) error {
	if !Is(name) {
		return errors.New("not the name of a page of this service")
	}
	if err := s.Folder.RemoveAll(ctx, name); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return s.Journal.Removed(ctx, name)
}

// Old reports whether an entry of a folder is a page that has been silent for a while, and that no journal may name.
func Old(e hostfs.Entry) bool {
	return (e.Mode.IsRegular() || e.Mode.IsDir()) && Is(path.Base(e.Path)) && time.Since(e.ModTime) > Silent
}

// Is reports whether a name is that of a page in the folder that it is in.
func Is(name string) bool { return strings.HasPrefix(name, Prefix) && !strings.ContainsAny(name, `/\`) }
