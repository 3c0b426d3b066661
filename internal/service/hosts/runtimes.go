package hosts

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"nestseed/internal/core/check"
	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/provision"
	"nestseed/internal/service/records"
)

// asksName is the name, in a host's patterns of folders and addresses, at which the host is asked what runs on it.
const asksName = "nestseed-asks"

// AskRuntimes asks a host what runs on it, for every kind that has a page for it, and keeps what it tells.
func (s *Hosts) AskRuntimes(ctx context.Context, h records.Host, fsys hostfs.FS) ([]provision.Runtime, error) {
	address := strings.ReplaceAll(h.Address, "{name}", asksName)
	folder, err := Fill(h.WebRoot, asksName, address)
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
		r, err := provision.AskRuntime(ctx, k, fsys, folder, func(ctx context.Context, page string) (int, []byte, error) {
			return check.Visit(ctx, Reach(h, address), page)
		})
		if err != nil {
			return nil, fmt.Errorf("%s: %w", address, err)
		}
		told = append(told, *r)
	}
	return told, s.DB.SetRuntimes(ctx, h.ID, told)
}
