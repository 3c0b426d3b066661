package hosts

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"nestseed/internal/core/check"
	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/provision"
	"nestseed/internal/core/sitepage"
	"nestseed/internal/service/records"
)

// asksName is the name, in a host's patterns of folders and addresses, at which the host is asked what runs on it.
const asksName = "nestseed-asks"

// sweepPages removes pages from the folder in which a host is asked that no journal names, as where it was asked before it was recorded.
func sweepPages(ctx context.Context, folder hostfs.FS) error {
	all, err := folder.List(ctx, ".")
	for _, e := range all {
		if sitepage.Old(e) {
			err = errors.Join(err, folder.RemoveAll(ctx, e.Path))
		}
	}
	return err
}

// AskRuntimes asks a host what runs on it, for every kind that has a page for it, and keeps what it tells.
func (s *Hosts) AskRuntimes(ctx context.Context, h records.Host, fsys hostfs.FS) (_ []provision.Runtime, err error) {
	address := strings.ReplaceAll(h.Address, "{name}", asksName)
	site, folder, end, err := s.askedIn(ctx, h, fsys, asksName)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, end()) }()
	other, otherFolder, endOther, err := s.askedIn(ctx, h, fsys, asksName+"-other")
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, endOther()) }()
	way, err := filepath.Rel(folder, otherFolder)
	if err != nil {
		return nil, err
	}
	told := []provision.Runtime{}
	all, err := s.Kinds.All(ctx)
	if err != nil {
		return nil, err
	}
	for _, k := range all {
		if k.Runtime.Ask.Text == "" || slices.ContainsFunc(told, func(r provision.Runtime) bool { return r.Name == k.Runtime.Name }) {
			continue
		}
		as := provision.AskedAs{Site: site, Other: other, Way: way}
		r, err := provision.AskRuntime(ctx, k, as, func(ctx context.Context, other bool, page string) (int, []byte, error) {
			if other {
				return check.Visit(ctx, Reach(h, strings.ReplaceAll(h.Address, "{name}", asksName+"-other")), page)
			}
			return check.Visit(ctx, Reach(h, address), page)
		})
		if err != nil {
			return nil, fmt.Errorf("%s: %w", address, err)
		}
		told = append(told, *r)
	}
	return told, s.DB.SetRuntimes(ctx, h.ID, told)
}

// askedIn makes the folder of a site that is for nothing but asking. end removes it.
func (s *Hosts) askedIn(ctx context.Context, h records.Host, fsys hostfs.FS, name string) (spot sitepage.Spot, folder string,
	end func() error,
	err error) {
	if folder, err = Fill(h.WebRoot, name, strings.ReplaceAll(h.Address, "{name}", name)); err != nil {
		return spot, "", nil, err
	}
	site, err := fsys.MakeSub(ctx, folder)
	if err != nil {
		return spot, "", nil, fmt.Errorf("place a page in %s: %w", folder, err)
	}
	return sitepage.Spot{Folder: site, Journal: s.Pages(h.ID, folder)}, folder, func() error {
		ctx := context.WithoutCancel(ctx)
		return errors.Join(sweepPages(ctx, site), site.Close(), removeAsksFolder(ctx, fsys, folder))
	}, nil
}
