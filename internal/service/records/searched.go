package records

import (
	"context"
	"encoding"
	"errors"

	"nestseed/internal/core/check"
)

// SearchedRelease returns the files of a release in which nothing is found; nil when they were not searched.
func (db *DB) SearchedRelease(ctx context.Context, id int64) (*check.Searched, error) {
	return db.searched(ctx, "SELECT searched FROM releases WHERE id = $1", id)
}

// SearchedSite returns the files of a site in which checks of the last seven days have found nothing; nil when there is none.
func (db *DB) SearchedSite(ctx context.Context, id int64) (*check.Searched, error) {
	return db.searched(ctx, "SELECT searched FROM sites WHERE id = $1 AND searched_at > now() - interval '7 days'", id)
}

func (db *DB) searched(ctx context.Context, query string, id int64) (*check.Searched, error) {
	type row struct{ Searched []byte }
	r, err := one[row](ctx, db, "list of searched files", "", query, id)
	if errors.Is(err, ErrNotFound) || err == nil && r.Searched == nil {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	out := &check.Searched{}
	return out, out.UnmarshalBinary(r.Searched)
}

// SetSearchedRelease keeps what SearchedRelease returns.
func (db *DB) SetSearchedRelease(ctx context.Context, id int64, s *check.Searched) error {
	return db.setSearched(ctx, "release", "UPDATE releases SET searched = $2 WHERE id = $1", id, s)
}

// SetSearchedSite keeps what SearchedSite returns. whole says that all files were searched and none passed over.
func (db *DB) SetSearchedSite(ctx context.Context, id int64, s *check.Searched, whole bool) error {
	when := "searched_at"
	if whole {
		when = "now()"
	}
	return db.setSearched(ctx, "site", "UPDATE sites SET searched = $2, searched_at = "+when+" WHERE id = $1", id, s)
}

func (db *DB) setSearched(ctx context.Context, noun, query string, id int64, s encoding.BinaryMarshaler) error {
	b, err := s.MarshalBinary()
	if err != nil {
		return err
	}
	return db.exec(ctx, noun, "", query, id, b)
}
