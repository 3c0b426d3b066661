package records

import (
	"context"

	"github.com/jackc/pgx/v5"
)

// Page is a page of the service in a folder of a host's files.
type Page struct {
	HostID       int64
	Folder, Name string
}

// AddPage records a page before an instance places it.
func (db *DB) AddPage(ctx context.Context, p Page, instance int64) error {
	_, err := db.Pool.Exec(ctx, "INSERT INTO pages (host_id, folder, name, instance_id) VALUES ($1, $2, $3, $4)", p.HostID, p.Folder, p.Name,
		instance)
	return err
}

// LeavePage records that whoever placed a page could not remove it.
func (db *DB) LeavePage(ctx context.Context, p Page) error {
	_, err := db.Pool.Exec(ctx, "UPDATE pages SET instance_id = 0 WHERE host_id = $1 AND folder = $2 AND name = $3", p.HostID, p.Folder,
		p.Name)
	return err
}

// RemovePage records that a page is not there any more.
func (db *DB) RemovePage(ctx context.Context, p Page) error {
	_, err := db.Pool.Exec(ctx, "DELETE FROM pages WHERE host_id = $1 AND folder = $2 AND name = $3", p.HostID, p.Folder, p.Name)
	return err
}

// Pages returns the pages that are placed, or only those that no running instance will remove.
func (db *DB) Pages(ctx context.Context, left bool) ([]Page, error) {
	rows, err := db.Pool.Query(ctx, "SELECT host_id, folder, name FROM pages WHERE NOT $1 OR NOT "+alive("pages.instance_id")+
		" ORDER BY host_id, folder, name", left)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Page])
}
