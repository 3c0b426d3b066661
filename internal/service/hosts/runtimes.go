package hosts

import (
	"context"
	"errors"
	"fmt"
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
	folder, err := Fill(h.WebRoot, asksName, address)
	if err != nil {
		return nil, err
	}
	site, err := fsys.MakeSub(ctx, folder)
	if err != nil {
		return nil, fmt.Errorf("place a page in %s: %w", folder, err)
	}
	defer func() {
		ctx := context.WithoutCancel(ctx)
		err = errors.Join(err, sweepPages(ctx, site), site.Close(), removeAsksFolder(ctx, fsys, folder))
	}()
	spot := sitepage.Spot{Folder: site, Journal: s.Pages(h.ID, folder)}
	told := []provision.Runtime{}
	all, err := s.Kinds.All(ctx)
	if err != nil {
		return nil, err
	}
	for _, k := range all {
		if k.Runtime.Ask.Text == "" || slices.ContainsFunc(told, func(r provision.Runtime) bool { return r.Name == k.Runtime.Name }) {
			continue
		}
		r, err := provision.AskRuntime(ctx, k, spot, func(ctx context.Context, page string) (int, []byte, error) {
			return check.Visit(ctx, Reach(h, address), page)
		})
		if err != nil {
			return nil, fmt.Errorf("%s: %w", address, err)
		}
		told = append(told, *r)
	}
	return told, s.DB.SetRuntimes(ctx, h.ID, told)
}
