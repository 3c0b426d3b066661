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
	Room      *Room               // as it was when somebody looked last; nil where nobody has
}

// Room is what a host has left for files.
type Room struct {
	FreeBytes *int64    `json:"free_bytes,omitempty"` // nil where the host does not tell
	At        time.Time `json:"at"`
	Trouble   string    `json:"trouble,omitempty"` // why it could not be reached
}

// HostUse is what the sites on a host take up.
type HostUse struct {
	HostID  int64
	Sites   int
	Bytes   int64 // of their files and rows, as they were made
	Largest int64 // of one site
}

const hostColumns = "id, name, files, web_root, address, database, connect, created_at, runtimes, host_key, room"

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
		`UPDATE hosts SET files = $2, web_root = $3, address = $4, database = $5, connect = $6, host_key = $7, runtimes = '[]', room = NULL
			WHERE id = $1`,
		h.ID, h.Files, h.WebRoot, h.Address, h.Database, h.Connect, h.HostKey)
}

// SetRuntimes keeps what a host has told of what runs on it.
func (db *DB) SetRuntimes(ctx context.Context, id int64, runtimes []provision.Runtime) error {
	return db.exec(ctx, "host", "", "UPDATE hosts SET runtimes = $2 WHERE id = $1", id, runtimes)
}

// SetRoom keeps how much room a host has.
func (db *DB) SetRoom(ctx context.Context, id int64, room Room) error {
	return db.exec(ctx, "host", "", "UPDATE hosts SET room = $2 WHERE id = $1", id, room)
}

// HostUses returns what the sites on each host take up; hosts without sites are not among them.
func (db *DB) HostUses(ctx context.Context) (map[int64]HostUse, error) {
	uses, err := many[HostUse](ctx, db, `SELECT host_id, count(*)::int AS sites, sum(bytes)::bigint AS bytes,
		max(bytes) AS largest
		FROM sites
		WHERE retired_at IS NULL GROUP BY host_id`)
	out := map[int64]HostUse{}
	for _, u := range uses {
		out[u.HostID] = u
	}
	return out, err
}

// RemoveHost removes a host that nothing uses.
func (db *DB) RemoveHost(ctx context.Context, name string) error {
	return db.exec(ctx, "host", name, "DELETE FROM hosts WHERE name = $1", name)
}
