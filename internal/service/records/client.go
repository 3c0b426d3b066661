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

// ClientRow is a client as lists show it.
type ClientRow struct {
	ID        int64
	Name      string
	Title     string
	Email     string
	Settings  int                // how many
	Values    map[string]Setting // those that were asked for
	Sites     int
	CreatedAt time.Time
}

// ClientFilter says which clients are listed. What is empty filters nothing.
type ClientFilter struct {
	Find   string   // a part of name, title or mail address, in any case
	Keys   []string // settings whose values are wanted
	Cursor string   // where the page before has ended
	Limit  int
}

// ClientRows returns a page of the clients that a filter lets through, by name, how many those are in all, and the cursor of the page
// behind it, or "". Errors: ErrCursor.
func (db *DB) ClientRows(ctx context.Context, f ClientFilter) (rows []ClientRow, total int, next string, err error) {
	const found = `($1 = '' OR c.name ILIKE $1 OR c.settings->'title'->>'value' ILIKE $1 OR c.settings->'email'->>'value' ILIKE $1)`
	if err := db.Pool.QueryRow(ctx, "SELECT count(*)::int FROM clients c WHERE "+found, part(f.Find)).Scan(&total); err != nil {
		return nil, 0, "", err
	}
	var after cursor
	if f.Cursor != "" {
		if after, err = parseCursor(f.Cursor); err != nil {
			return nil, 0, "", err
		}
	}
	rows, err = many[ClientRow](ctx, db, `WITH page AS (SELECT * FROM clients c WHERE c.name > $2 AND `+found+` ORDER BY c.name LIMIT $3)
		SELECT id, name, COALESCE(settings->'title'->>'value', '') AS title, COALESCE(settings->'email'->>'value', '') AS email,
		(SELECT count(*) FROM jsonb_object_keys(settings))::int AS settings, created_at,
		(SELECT COALESCE(jsonb_object_agg(key, value), '{}') FROM jsonb_each(settings) WHERE key = ANY($4)) AS values,
		(SELECT count(*) FROM sites s WHERE s.client_id = page.id AND s.retired_at IS NULL)::int AS sites FROM page ORDER BY name`,
		part(f.Find), after.Name, f.Limit+1, f.Keys)
	if len(rows) > f.Limit {
		rows = rows[:f.Limit]
		next = cursor{Name: rows[f.Limit-1].Name}.String()
	}
	return rows, total, next, err
}

const clientQuery = `SELECT c.id, c.name, c.settings, c.created_at, (SELECT count(*) FROM sites s WHERE s.client_id = c.id
	AND s.retired_at IS NULL)::int AS sites FROM clients c `

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
