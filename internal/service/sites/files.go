package sites

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"

	"nestseed/internal/core/fetch"
	"nestseed/internal/core/media"
	"nestseed/internal/core/packing"
	"nestseed/internal/core/progress"
	"nestseed/internal/core/provision"
	"nestseed/internal/service/records"
)

// filesOf returns what reads the files that are values of a client's fields: those that it has, and those that links lead to.
func (svc *Sites) filesOf(client string) func(ctx context.Context, value string) (string, []byte, error) {
	return func(ctx context.Context, value string) (string, []byte, error) {
		if packing.IsLink(value) {
			return svc.fetched(ctx, value)
		}
		sum, name := packing.AsFile(value)
		f, err := svc.DB.ClientFile(ctx, client, sum)
		if errors.Is(err, records.ErrNotFound) {
			return "", nil, fmt.Errorf("%w: client %s has no file %s any more; give it again", provision.ErrPlan, client, name)
		}
		return f.Name, f.Content, err
	}
}

// fetched gets a file by a link, which may not lead into private networks.
func (svc *Sites) fetched(ctx context.Context, link string) (name string, content []byte, err error) {
	opts, err := svc.Releases.FetchOptions(ctx)
	if err != nil {
		return "", nil, err
	}
	opts.MaxBytes = min(opts.MaxBytes, media.MostBytes)
	if err := os.MkdirAll(svc.Hosts.Scratch, 0o700); err != nil {
		return "", nil, err
	}
	f, err := os.CreateTemp(svc.Hosts.Scratch, "fetched-")
	if err != nil {
		return "", nil, err
	}
	defer func() { err = errors.Join(err, f.Close(), os.Remove(f.Name())) }()
	got, _, err := fetch.Get(ctx, link, f, opts, progress.Discard)
	if err != nil {
		return "", nil, err
	}
	if _, err = f.Seek(0, io.SeekStart); err == nil {
		content, err = io.ReadAll(io.LimitReader(f, media.MostBytes+1))
	}
	return got.Name, content, err
}
