package records

import (
	"context"
	"time"
)

// User is somebody who may use the service.
type User struct {
	ID           int64
	Name         string
	Role         string
	PasswordHash string
	CreatedAt    time.Time
}

const userColumns = "id, name, role, password_hash, created_at"

// Users lists all users.
func (db *DB) Users(ctx context.Context) ([]User, error) {
	return many[User](ctx, db, "SELECT "+userColumns+" FROM users ORDER BY name")
}

// User returns a user by name.
func (db *DB) User(ctx context.Context, name string) (User, error) {
	return one[User](ctx, db, "user", name, "SELECT "+userColumns+" FROM users WHERE name = $1", name)
}

// AddUser makes a user.
func (db *DB) AddUser(ctx context.Context, name, role, passwordHash string) (User, error) {
	return one[User](ctx, db, "user", name, "INSERT INTO users (name, role, password_hash) VALUES ($1, $2, $3) RETURNING "+userColumns, name,
		role, passwordHash)
}

// RemoveUser removes a user with their tokens and sessions.
func (db *DB) RemoveUser(ctx context.Context, name string) error {
	return db.exec(ctx, "user", name, "DELETE FROM users WHERE name = $1", name)
}

// SetPassword replaces a user's password and ends their sessions.
func (db *DB) SetPassword(ctx context.Context, name, passwordHash string) error {
	return db.exec(ctx, "user", name, `WITH u AS (UPDATE users SET password_hash = $2 WHERE name = $1 RETURNING id),
		gone AS (DELETE FROM sessions WHERE user_id IN (SELECT id FROM u)) SELECT id FROM u`, name, passwordHash)
}

// AddToken keeps the hash of a token, which is of use until it expires; with nil, for ever.
func (db *DB) AddToken(ctx context.Context, userID int64, name string, hash []byte, expires *time.Time) error {
	_, err := db.Pool.Exec(ctx, "INSERT INTO tokens (user_id, name, hash, expires_at) VALUES ($1, $2, $3, $4)", userID, name, hash, expires)
	return err
}

// Token is a token without its secret.
type Token struct {
	Name      string
	User      string
	CreatedAt time.Time
	UsedAt    *time.Time
	ExpiresAt *time.Time
}

// Tokens lists the tokens of a user.
func (db *DB) Tokens(ctx context.Context, userID int64) ([]Token, error) {
	return many[Token](ctx, db, `SELECT t.name, u.name AS "user", t.created_at, t.used_at, t.expires_at FROM tokens t JOIN users u ON
		u.id = t.user_id WHERE u.id = $1 ORDER BY t.id`, userID)
}

// RemoveToken removes a user's tokens of this name.
func (db *DB) RemoveToken(ctx context.Context, userID int64, name string) error {
	return db.exec(ctx, "token", name, "DELETE FROM tokens WHERE user_id = $1 AND name = $2", userID, name)
}

// UserOfToken returns whose token this is.
func (db *DB) UserOfToken(ctx context.Context, hash []byte) (User, error) {
	return one[User](ctx, db, "token", "", `WITH t AS (UPDATE tokens SET used_at = now() WHERE hash = $1 AND (expires_at IS NULL
		OR expires_at > now()) RETURNING user_id)
		SELECT `+userColumns+` FROM users WHERE id = (SELECT user_id FROM t)`, hash)
}

// AddSession keeps the hash of a session.
func (db *DB) AddSession(ctx context.Context, userID int64, hash []byte, expires time.Time) error {
	_, err := db.Pool.Exec(ctx, "WITH old AS (DELETE FROM sessions WHERE expires_at < now()) INSERT INTO sessions (user_id, hash, "+
		"expires_at) VALUES ($1, $2, $3)", userID, hash, expires)
	return err
}

// UserOfSession returns whose session this is.
func (db *DB) UserOfSession(ctx context.Context, hash []byte) (User, error) {
	return one[User](ctx, db, "session", "", "SELECT "+userColumns+
		" FROM users WHERE id = (SELECT user_id FROM sessions WHERE hash = $1 AND expires_at > now())", hash)
}

// EndSession removes a session.
func (db *DB) EndSession(ctx context.Context, hash []byte) error {
	_, err := db.Pool.Exec(ctx, "DELETE FROM sessions WHERE hash = $1", hash)
	return err
}

// Audit notes who did what.
func (db *DB) Audit(ctx context.Context, who, what string) error {
	_, err := db.Pool.Exec(ctx, "INSERT INTO audit (who, what) VALUES ($1, $2)", who, what)
	return err
}

// AuditEntry is a line of the audit log.
type AuditEntry struct {
	At   time.Time
	Who  string
	What string
}

// AuditLog returns the newest entries.
func (db *DB) AuditLog(ctx context.Context, limit int) ([]AuditEntry, error) {
	return many[AuditEntry](ctx, db, "SELECT at, who, what FROM audit ORDER BY id DESC LIMIT $1", limit)
}

// browserKept is how long a browser is known in which nobody logs in.
const browserKept = "180 days"

// KnowBrowser remembers that a user has logged in in a browser, and forgets those that were not used for long.
func (db *DB) KnowBrowser(ctx context.Context, userID int64, hash []byte) error {
	_, err := db.Pool.Exec(ctx, "WITH old AS (DELETE FROM browsers WHERE seen_at < now() - interval '"+browserKept+"') "+
		"INSERT INTO browsers (hash, user_id) VALUES ($1, $2) ON CONFLICT (hash) DO UPDATE SET seen_at = now() WHERE browsers.user_id = $2",
		hash, userID)
	return err
}

// IsKnownBrowser reports whether a user has logged in in a browser.
func (db *DB) IsKnownBrowser(ctx context.Context, userID int64, hash []byte) (known bool, err error) {
	err = db.Pool.QueryRow(ctx, "SELECT EXISTS (SELECT FROM browsers WHERE hash = $1 AND user_id = $2)", hash, userID).Scan(&known)
	return known, err
}
