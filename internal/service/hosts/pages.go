package hosts

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strings"
	"time"

	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/sitepage"
	"nestseed/internal/service/records"
)

// pages is the journal of the pages in a folder of a host.
type pages struct {
	s      *Hosts
	host   int64
	folder string
}

// Pages returns the journal of the pages that are placed in a folder of a host's files. host is its number, or 0 for one that is not
// recorded yet.
func (s *Hosts) Pages(host int64, folder string) sitepage.Journal {
	if host == 0 {
		return sitepage.Unrecorded{}
	}
	return pages{s, host, path.Clean(folder)}
}

func (p pages) of(name string) records.Page {
	return records.Page{HostID: p.host, Folder: p.folder, Name: name}
}

func (p pages) Placing(ctx context.Context, name string) error {
	return p.s.DB.AddPage(ctx, p.of(name), p.s.Engine.Instance())
}

func (p pages) Left(ctx context.Context, name string) error {
	return p.s.DB.LeavePage(ctx, p.of(name))
}

func (p pages) Removed(ctx context.Context, name string) error {
	return p.s.DB.RemovePage(ctx, p.of(name))
}

// clearWithin is how long the pages of one host may take to be removed.
const clearWithin = 30 * time.Second

// ClearPages removes the pages that instances which have ended have left on hosts, and those that could not be removed before. A host that
// does not answer is tried again the next time.
func (s *Hosts) ClearPages(ctx context.Context) error {
	left, err := s.DB.Pages(ctx, true)
	if err != nil {
		return err
	}
	var errs []error
	for len(left) > 0 {
		n := 1
		for n < len(left) && left[n].HostID == left[0].HostID {
			n++
		}
		if err := s.clearPages(ctx, left[:n]); err != nil {
			errs = append(errs, err)
		}
		left = left[n:]
	}
	return errors.Join(errs...)
}

// clearPages removes pages of one host.
func (s *Hosts) clearPages(ctx context.Context, left []records.Page) error {
	ctx, cancel := context.WithTimeout(ctx, clearWithin)
	defer cancel()
	h, err := s.DB.HostByID(ctx, left[0].HostID)
	if err != nil {
		return err
	}
	fsys, err := s.Files(ctx, h)
	if err != nil {
		return err
	}
	defer fsys.Close()
	for _, p := range left {
		if err := clearPage(ctx, fsys, p, s.Pages(p.HostID, p.Folder)); err != nil {
			return fmt.Errorf("host %s: remove the page %s in %s: %w", h.Name, p.Name, p.Folder, err)
		}
	}
	return nil
}

func clearPage(ctx context.Context, fsys hostfs.FS, p records.Page, journal sitepage.Journal) error {
	folder, err := fsys.Sub(ctx, p.Folder)
	if errors.Is(err, fs.ErrNotExist) {
		return journal.Removed(ctx, p.Name)
	}
	if err != nil {
		return err
	}
	err = (sitepage.Spot{Folder: folder, Journal: journal}).Clear(ctx, p.Name)
	return errors.Join(err, folder.Close(), removeAsksFolder(ctx, fsys, p.Folder))
}

// removeAsksFolder removes the folder in which a host is asked, with those above it that were made for it, where nothing else is in them.
func removeAsksFolder(ctx context.Context, fsys hostfs.FS, folder string) error {
	for at := folder; strings.Contains(at, asksName); at = path.Dir(at) {
		if err := fsys.RemoveEmpty(ctx, at); err != nil {
			return err
		}
	}
	return nil
}
