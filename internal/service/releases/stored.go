package releases

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"strconv"

	"nestseed/internal/core/archive"
	"nestseed/internal/service/records"
	"nestseed/internal/service/store"
)

// Stored is archives in the store with the records of them. What the service writes is recorded before it is there, under a
// name that the service has chosen, and nothing is removed that no record says was written: a store may hold what belongs to
// others.
type Stored struct {
	DB    *records.DB
	Store *store.Store
}

// Keep makes a draft an archive of the store. Nothing there is ever replaced. It returns the name that it has been given.
func (s *Stored) Keep(ctx context.Context, draft *store.Draft, label string, runID int64) (name string, sizeBytes int64, err error) {
	name = fmt.Sprintf("%s-%s.zip", label, rand.Text())
	if err := s.DB.AddStored(ctx, name, runID); err != nil {
		return "", 0, err
	}
	sizeBytes, err = draft.Keep(ctx, name)
	return name, sizeBytes, err
}

// Open opens an archive that is kept under a name, and compares it with the sum that was recorded for it, unless that is "".
// Errors: archive.ErrDamaged, where it is another.
func (s *Stored) Open(ctx context.Context, name, sums string) (*archive.Archive, store.File, error) {
	f, size, err := s.Store.Open(ctx, name)
	if err != nil {
		return nil, nil, err
	}
	a, err := archive.Open(f, size)
	if err == nil && sums != "" {
		var pinned string
		if pinned, err = a.Pinned(); err == nil && pinned != sums {
			err = fmt.Errorf("%w: it is not the archive that was kept: its sums are others than those recorded; bring the store back from a copy",
				archive.ErrDamaged)
		}
	}
	if err != nil {
		f.Close()
		return nil, nil, err
	}
	return a, f, nil
}

// Remove removes an archive, and returns how many bytes of the store are free now.
func (s *Stored) Remove(ctx context.Context, name string) (freed int64, err error) {
	freed, err = s.Store.Remove(ctx, name)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return 0, err
	}
	return freed, s.DB.RemoveStored(ctx, name)
}

// Sweep removes what the service has written and nothing needs: archives whose record was never made, and drafts of runs that
// do not work.
func (s *Stored) Sweep(ctx context.Context) error {
	strays, err := s.DB.Strays(ctx)
	if err != nil {
		return err
	}
	for _, stray := range strays {
		if _, err := s.Remove(ctx, stray.Name); err != nil {
			return err
		}
	}
	drafts, err := s.Store.Drafts()
	if err != nil {
		return err
	}
	for _, id := range drafts {
		idle, err := s.DB.Idle(ctx, id)
		if err != nil {
			return err
		}
		if idle {
			if err := s.Store.DropDraft(id); err != nil {
				return fmt.Errorf("remove the draft of run %s: %w", strconv.FormatInt(id, 10), err)
			}
		}
	}
	return nil
}
