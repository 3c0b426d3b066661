package records

import (
	"context"
	"time"

	"nestseed/internal/core/sidebyside"
)

// SideBySide is what was seen of a site beside its source.
type SideBySide struct {
	Source string            `json:"source"`
	At     time.Time         `json:"at"`
	Left   string            `json:"left"` // the source's address
	Right  string            `json:"right"`
	Pages  []sidebyside.Page `json:"pages"`
	// Set is what the names of its screenshots begin with in the store.
	Set string `json:"set,omitempty"`
}

// SetSideBySide keeps what was seen last.
func (db *DB) SetSideBySide(ctx context.Context, siteID int64, s *SideBySide) error {
	return db.exec(ctx, "site", itoa(siteID), "UPDATE sites SET side_by_side = $2 WHERE id = $1", siteID, s)
}

// SideBySideOf returns what was seen of a site, or nil.
func (db *DB) SideBySideOf(ctx context.Context, siteID int64) (s *SideBySide, err error) {
	err = db.Pool.QueryRow(ctx, "SELECT side_by_side FROM sites WHERE id = $1", siteID).Scan(&s)
	return s, err
}
