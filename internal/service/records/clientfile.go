package records

import (
	"context"
	"time"
)

// ClientFile is a picture or a file of a client.
type ClientFile struct {
	SHA256  string
	Name    string
	Content []byte
	AddedAt time.Time
}

// ClientFile returns a file by the sum of its content. Errors: ErrNotFound.
func (db *DB) ClientFile(ctx context.Context, client, sum string) (ClientFile, error) {
	return one[ClientFile](ctx, db, "file of client "+client, sum, `SELECT f.sha256, f.name, f.content, f.added_at FROM client_files f
		JOIN clients c ON c.id = f.client_id WHERE c.name = $1 AND f.sha256 = $2`, client, sum)
}

// AddClientFile keeps a file for a client, under the name that it was given last; those that have been there for a day and that no setting
// of the client names go.
func (db *DB) AddClientFile(ctx context.Context, client string, f ClientFile) error {
	_, err := db.Pool.Exec(ctx, `DELETE FROM client_files f USING clients c WHERE c.id = f.client_id AND c.name = $1
		AND f.added_at < now() - interval '1 day' AND position(f.sha256 IN c.settings::text) = 0`, client)
	if err != nil {
		return err
	}
	return db.exec(ctx, "client", client, `INSERT INTO client_files (client_id, sha256, name, content)
		SELECT id, $2, $3, $4 FROM clients WHERE name = $1
		ON CONFLICT (client_id, sha256) DO UPDATE SET name = excluded.name, added_at = now()`, client, f.SHA256, f.Name, f.Content)
}
