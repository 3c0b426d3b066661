package records

import (
	"context"
	"time"
)

// Client is a customer of the agency. Settings whose value is secret are in the vault; here they are "".
type Client struct {
	ID        int64
	Name      string
	Settings  map[string]Setting
	CreatedAt time.Time
	Sites     int
}

// Setting is a value of a client.
type Setting struct {
	Value  string `json:"value"`
	Secret bool   `json:"secret,omitempty"`
}

const clientQuery = `SELECT c.id, c.name, c.settings, c.created_at, (SELECT count(*) FROM sites s WHERE s.client_id = c.id
	AND s.retired_at IS NULL)::int AS sites FROM clients c `

// Clients lists all clients.
func (db *DB) Clients(ctx context.Context) ([]Client, error) {
	return many[Client](ctx, db, clientQuery+"ORDER BY c.name")
}

// Client returns a client by name.
func (db *DB) Client(ctx context.Context, name string) (Client, error) {
	return one[Client](ctx, db, "client", name, clientQuery+"WHERE c.name = $1", name)
}

// AddClient makes a client.
func (db *DB) AddClient(ctx context.Context, name string) (Client, error) {
	if err := db.exec(ctx, "client", name, "INSERT INTO clients (name) VALUES ($1)", name); err != nil {
		return Client{}, err
	}
	return db.Client(ctx, name)
}

// SetSettings adds settings to a client's, and removes those named in gone.
func (db *DB) SetSettings(ctx context.Context, name string, settings map[string]Setting, gone []string) error {
	return db.exec(ctx, "client", name, "UPDATE clients SET settings = (settings || $2::jsonb) - COALESCE($3::text[], '{}') WHERE name = $1",
		name, settings, gone)
}

// RemoveClient removes a client without sites.
func (db *DB) RemoveClient(ctx context.Context, name string) error {
	return db.exec(ctx, "client", name, "DELETE FROM clients WHERE name = $1", name)
}
