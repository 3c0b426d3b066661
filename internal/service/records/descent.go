package records

import (
	"context"
	"errors"
	"strings"
)

// Ancestor is one step of where a site comes from: a release, the source that was built from, and, where that source
// is itself a site, this site and so on.
type Ancestor struct {
	Noun string
	Name string
	Gone bool // its record is not there any more, or it is off its host
}

// Descent follows a site back to where it comes from.
func (db *DB) Descent(ctx context.Context, s Site) (line []Ancestor, err error) {
	seen := map[int64]bool{}
	for !seen[s.ID] {
		seen[s.ID] = true
		r, err := db.ReleaseByID(ctx, s.ReleaseID)
		if err != nil {
			return nil, err
		}
		line = append(line, Ancestor{Noun: "release", Name: r.Ref(), Gone: r.Archive == ""})
		if r.Manifest.Source == "" {
			break
		}
		source, err := db.Source(ctx, r.Manifest.Source)
		if errors.Is(err, ErrNotFound) {
			line = append(line, Ancestor{Noun: "source", Name: r.Manifest.Source, Gone: true})
			break
		}
		if err != nil {
			return nil, err
		}
		line = append(line, Ancestor{Noun: "source", Name: source.Name})
		if source.FromSite == nil {
			break
		}
		if s, err = db.SiteByID(ctx, *source.FromSite); err != nil {
			return nil, err
		}
		line = append(line, Ancestor{Noun: "site", Name: s.Name, Gone: s.RetiredAt != nil})
	}
	return line, nil
}

// SiteAt returns the number of the site that stands in a folder of a host, or nil.
func (db *DB) SiteAt(ctx context.Context, hostID int64, folder string) (*int64, error) {
	type row struct{ ID int64 }
	rows, err := many[row](ctx, db, "SELECT id FROM sites WHERE host_id = $1 AND folder = $2 AND retired_at IS NULL", hostID,
		strings.Trim(folder, "/"))
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	return &rows[0].ID, nil
}
