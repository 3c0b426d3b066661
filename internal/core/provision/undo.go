package provision

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io/fs"
	"slices"

	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/sitedb"
)

// UndoOwn takes away, of what an attempt has made and never ended, what only that attempt can have: names that are used once, and what
// has its mark. It asks nobody. Without it, what an attempt makes that stood still while another took its journal back would be left.
//
// Once it has begun to make the prepared site and an old one change places, the old one may be under the name of the prepared one: then
// nothing is removed here.
func UndoOwn(ctx context.Context, fsys hostfs.FS, server sitedb.Server, made []Made) error {
	var errs []error
	if slices.ContainsFunc(made, func(m Made) bool { return m.What == "exchange" }) {
		return nil
	}
	for _, m := range slices.Backward(made) {
		if m.What == "database" || m.What == "user" || m.What == "staging" {
			errs = append(errs, undo(ctx, fsys, server, m, func(context.Context) error { return nil }))
		}
	}
	return errors.Join(errs...)
}

// Undo takes away what was made, last first. What is not there any more is no error, so it can be called again after it was interrupted.
// Before each act it asks whether the work is still the caller's. What has got a name since that something of the journal had before
// stays.
//
// First all prepared folders get other names: an attempt that stood still meanwhile and goes on finds none that it could put in the place
// of a site.
func Undo(ctx context.Context, fsys hostfs.FS, server sitedb.Server, made []Made, still func(context.Context) error) error {
	if err := seal(ctx, fsys, made, still); err != nil {
		return err
	}
	var errs []error
	for _, m := range slices.Backward(made) {
		if err := still(ctx); err != nil {
			return errors.Join(append(errs, err)...)
		}
		switch err := undo(ctx, fsys, server, m, still); {
		case err == nil:
		case m.What == "exchange":
			// Behind the other name may lie the site that was replaced; nothing may be removed before it is back.
			return errors.Join(append(errs, fmt.Errorf("put the old site back: %w", err))...)
		default:
			errs = append(errs, err)
		}
	}
	return errors.Join(errs...)
}

// sealed is the name that a prepared folder gets before what was made is taken back.
func sealed(staging string) string { return staging + "-gone" }

// seal gives all prepared folders, files and links their other names. What was cut off is done by the next call.
func seal(ctx context.Context, fsys hostfs.FS, made []Made, still func(context.Context) error) error {
	for _, m := range made {
		if m.What == "exchange" {
			folder, staging, _, err := exchanged(m.Name)
			if err == nil {
				err = hostfs.Settle(ctx, fsys, folder, staging)
			}
			if err != nil {
				return err
			}
		}
	}
	for _, m := range made {
		if m.What != "staging" {
			continue
		}
		err := still(ctx)
		if err == nil {
			err = fsys.Rename(ctx, m.Name, sealed(m.Name))
		}
		if err == nil || errors.Is(err, fs.ErrNotExist) {
			continue
		}
		// Some hosts do not say why a rename fails.
		if _, statErr := fsys.Stat(ctx, m.Name); !errors.Is(statErr, fs.ErrNotExist) {
			return fmt.Errorf("put folder %s aside: %w", m.Name, errors.Join(err, statErr))
		}
	}
	return nil
}

func undo(ctx context.Context, fsys hostfs.FS, server sitedb.Server, m Made, still func(context.Context) error) error {
	switch m.What {
	case "exchange":
		return undoExchange(ctx, fsys, m.Name, still)
	case "database":
		if g, is := server.(sitedb.Giver); is {
			return g.Drop(ctx, m.Name, m.ID)
		}
		return server.DropDatabase(ctx, m.Name)
	case "user":
		return server.DropUser(ctx, m.Name)
	case "parent":
		if err := fsys.RemoveEmpty(ctx, m.Name); err != nil {
			return fmt.Errorf("remove folder %s: %w", m.Name, err)
		}
	case "staging":
		for _, name := range []string{m.Name, sealed(m.Name)} {
			if err := fsys.RemoveAll(ctx, name); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return fmt.Errorf("remove folder %s: %w", name, err)
			}
		}
	case "folder":
		if err := removeFolder(ctx, fsys, m, still); err != nil {
			return fmt.Errorf("remove folder %s: %w", m.Name, err)
		}
	}
	return nil
}

// going is what a folder, file or link with an identity is called while it is removed.
func going(m Made) string {
	return Beside(m.Name, "gone-"+fmt.Sprintf("%x", sha256.Sum256([]byte(m.ID)))[:16])
}

// Names returns all names that what an entry tells of may have while it is taken back.
func (m Made) Names() []string {
	switch m.What {
	case "staging":
		return []string{m.Name, sealed(m.Name)}
	case "folder":
		return []string{m.Name, going(m)}
	}
	return []string{m.Name}
}

// removeFolder removes what has an identity, and nothing else that is at its name now. It is put aside first, under a name that is its
// own: so nothing that takes the name at that moment is lost, and one that was cut off goes on.
func removeFolder(ctx context.Context, fsys hostfs.FS, m Made, still func(context.Context) error) error {
	if m.ID == "" {
		return errors.New("the journal does not say which one; look at it, and remove it by hand")
	}
	aside := going(m)
	if _, err := fsys.Stat(ctx, aside); err == nil {
		return fsys.RemoveAll(ctx, aside)
	} else if !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	id, err := fsys.ID(ctx, m.Name)
	if errors.Is(err, fs.ErrNotExist) || err == nil && id != m.ID {
		return nil
	}
	if err == nil {
		err = still(ctx)
	}
	if err == nil {
		err = fsys.Rename(ctx, m.Name, aside)
	}
	if err != nil {
		return err
	}
	if id, err = fsys.ID(ctx, aside); err != nil || id != m.ID {
		return errors.Join(err, errors.New("something else was there at that moment"), fsys.Rename(ctx, aside, m.Name))
	}
	return fsys.RemoveAll(ctx, aside)
}
