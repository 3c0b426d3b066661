package records

import (
	"context"
	"time"

	"nestseed/internal/core/provision"
)

// Host is a place with files and a database server. Database is its address without the password,
// which is in the vault.
type Host struct {
	ID        int64
	Name      string
	Files     string
	WebRoot   string
	Address   string
	Database  string
	Connect   string
	CreatedAt time.Time
	Runtimes  []provision.Runtime // as it has told
	HostKey   string              // that it has shown, where its files are reached over a network
}

const hostColumns = "id, name, files, web_root, address, database, connect, created_at, runtimes, host_key"

// Hosts lists all hosts.
func (db *DB) Hosts(ctx context.Context) ([]Host, error) {
	return many[Host](ctx, db, "SELECT "+hostColumns+" FROM hosts ORDER BY name")
}

// Host returns a host by name.
func (db *DB) Host(ctx context.Context, name string) (Host, error) {
	return one[Host](ctx, db, "host", name, "SELECT "+hostColumns+" FROM hosts WHERE name = $1", name)
}

// HostByID returns a host.
func (db *DB) HostByID(ctx context.Context, id int64) (Host, error) {
	return one[Host](ctx, db, "host", "", "SELECT "+hostColumns+" FROM hosts WHERE id = $1", id)
}

// AddHost makes a host.
func (db *DB) AddHost(ctx context.Context, h Host) (Host, error) {
	return one[Host](ctx, db, "host", h.Name,
		"INSERT INTO hosts (name, files, web_root, address, database, connect, host_key) VALUES ($1, $2, $3, $4, $5, $6, $7) RETURNING "+
			hostColumns, h.Name, h.Files, h.WebRoot, h.Address, h.Database, h.Connect, h.HostKey)
}

// ChangeHost changes a host, by its number. What it has told belongs to what it was.
func (db *DB) ChangeHost(ctx context.Context, h Host) error {
	return db.exec(ctx, "host", h.Name,
		"UPDATE hosts SET files = $2, web_root = $3, address = $4, database = $5, connect = $6, host_key = $7, runtimes = '[]' WHERE id = $1",
		h.ID, h.Files, h.WebRoot, h.Address, h.Database, h.Connect, h.HostKey)
}

// SetRuntimes keeps what a host has told of what runs on it.
func (db *DB) SetRuntimes(ctx context.Context, id int64, runtimes []provision.Runtime) error {
	return db.exec(ctx, "host", "", "UPDATE hosts SET runtimes = $2 WHERE id = $1", id, runtimes)
}

// RemoveHost removes a host that nothing uses.
func (db *DB) RemoveHost(ctx context.Context, name string) error {
	return db.exec(ctx, "host", name, "DELETE FROM hosts WHERE name = $1", name)
}
