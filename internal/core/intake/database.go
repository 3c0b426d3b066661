package intake

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"path"

	"nestseed/internal/core/sitedb"
	"nestseed/internal/core/sqltext"
)

// openGiven opens what was given for a database: a dump, or a database that is a file.
func (o *opener) openGiven(f File) (sitedb.Reader, error) {
	for _, e := range sitedb.InSites() {
		head := make([]byte, len(e.Head))
		if _, err := f.R.ReadAt(head, 0); err != nil || !bytes.Equal(head, []byte(e.Head)) {
			continue
		}
		const name = "given-database"
		if err := o.copy(f, name); err != nil {
			return nil, fmt.Errorf("%s: %w", f.Name, err)
		}
		return o.openFile(e, name)
	}
	return o.openDump(f)
}

// copy writes a file from outside into the scratch folder.
func (o *opener) copy(f File, name string) error {
	out, err := o.in.Scratch.Create(o.ctx, name, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, io.NewSectionReader(f.R, 0, f.SizeBytes))
	return errors.Join(err, out.Close())
}

// ownFile opens the database of a site that has it in a file of its own folder, where its settings, or its kind, say.
func (o *opener) ownFile() error {
	id := o.site.Identity
	if o.site.db != nil || id == nil {
		return nil
	}
	e, err := sitedb.EngineOf(id.Database.Engine)
	if err != nil || !e.InSite {
		return nil
	}
	name, err := id.DatabaseFile(o.in.Scratch, o.site.Root)
	if err != nil { // it was named by where the site lay before
		name = path.Join(o.site.Root, id.Kind.Settings.Database.File)
	}
	if _, err := o.in.Scratch.Stat(o.ctx, name); err != nil {
		return nil // perhaps there is a dump
	}
	o.site.db, err = o.openFile(e, name)
	return err
}

// openFile opens a database that is a file in the scratch folder.
func (o *opener) openFile(e sitedb.Engine, name string) (sitedb.Reader, error) {
	server, err := e.OnFiles(o.in.Scratch, path.Join(o.in.Scratch.Root(), "databases"))
	if err != nil {
		return nil, err
	}
	o.site.close = append(o.site.close, func() { server.Close() })
	db, err := server.Open(o.ctx, name)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", sitedb.ErrRefused, err)
	}
	o.site.close = append(o.site.close, func() { db.Close() })
	return untrusted{db}, nil
}

// untrusted is a database from outside: of its programs only those are taken over that do nothing by themselves.
type untrusted struct{ sitedb.Reader }

func (u untrusted) Snapshot(ctx context.Context) (sitedb.Snapshot, error) {
	s, err := u.Reader.Snapshot(ctx)
	return untrustedSnapshot{s}, err
}

type untrustedSnapshot struct{ sitedb.Snapshot }

func (s untrustedSnapshot) Programs(ctx context.Context, tables []sitedb.Table) (out []*sqltext.Program, left []sitedb.LeftOut, err error) {
	all, left, err := s.Snapshot.Programs(ctx, tables)
	for _, g := range all {
		if g.Passive() {
			out = append(out, g)
		} else {
			left = append(left, sitedb.LeftOut{What: g.String(), Reason: "it is a program from outside; create it again on the site"})
		}
	}
	return out, left, err
}
