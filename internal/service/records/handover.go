package records

import (
	"context"
	"time"
)

// Handover is a link by which a client gets a site's address and login, once.
type Handover struct {
	ID          int64
	SiteID      int64
	MadeAt      time.Time
	MadeBy      string
	ExpiresAt   time.Time
	OpenedAt    *time.Time
	WithdrawnAt *time.Time
}

const handoverColumns = "id, site_id, made_at, made_by, expires_at, opened_at, withdrawn_at"

// Handovers lists a site's handovers, newest first.
func (db *DB) Handovers(ctx context.Context, siteID int64) ([]Handover, error) {
	return many[Handover](ctx, db, "SELECT "+handoverColumns+" FROM handovers WHERE site_id = $1 ORDER BY id DESC", siteID)
}

// AddHandover keeps the hash of a link's key. Links that were made before and not opened are withdrawn: there is one
// way to the password, and whoever has an older link learns from it that there is a newer one.
func (db *DB) AddHandover(ctx context.Context, siteID int64, hash []byte, who string, expires time.Time) (Handover, error) {
	if _, err := db.Pool.Exec(ctx,
		"UPDATE handovers SET withdrawn_at = now() WHERE site_id = $1 AND opened_at IS NULL AND withdrawn_at IS NULL", siteID); err != nil {
		return Handover{}, err
	}
	return one[Handover](ctx, db, "handover", "",
		"INSERT INTO handovers (site_id, key_hash, made_by, expires_at) VALUES ($1, $2, $3, $4) RETURNING "+
			handoverColumns, siteID, hash, who, expires)
}

// OpenHandover opens a link, if it is neither opened nor withdrawn nor expired; of two who open it at once, one does.
// Without one to open, the record says why. Errors: ErrNotFound.
func (db *DB) OpenHandover(ctx context.Context, hash []byte) (h Handover, opened bool, err error) {
	tag, err := db.Pool.Exec(ctx, "UPDATE handovers SET opened_at = now() WHERE key_hash = $1 AND opened_at IS NULL AND withdrawn_at IS "+
		"NULL AND expires_at > now()", hash)
	if err != nil {
		return h, false, err
	}
	h, err = one[Handover](ctx, db, "handover", "", "SELECT "+handoverColumns+" FROM handovers WHERE key_hash = $1", hash)
	return h, tag.RowsAffected() == 1, err
}

// NotHandedOver makes a link whole again that was opened and from which nothing was learned.
func (db *DB) NotHandedOver(ctx context.Context, id int64) error {
	return db.exec(ctx, "handover", itoa(id), "UPDATE handovers SET opened_at = NULL WHERE id = $1", id)
}

// WithdrawHandovers makes a site's links that were not opened useless.
func (db *DB) WithdrawHandovers(ctx context.Context, siteID int64) (n int64, err error) {
	tag, err := db.Pool.Exec(ctx, "UPDATE handovers SET withdrawn_at = now() WHERE site_id = $1 AND opened_at IS NULL AND "+
		"withdrawn_at IS NULL", siteID)
	return tag.RowsAffected(), err
}
