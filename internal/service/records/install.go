package records

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"nestseed/internal/core/provision"
)

// Install is code on a host that several sites share, in one or more releases.
type Install struct {
	ID      int64
	Name    string
	HostID  int64
	Host    string
	MadeAt  time.Time
	Tenants int
}

// InstallCode is the code of one release in an install.
type InstallCode struct {
	ID        int64
	InstallID int64
	Install   string
	HostID    int64
	ReleaseID int64
	Release   string
	Kind      string // of its starter
	RunID     int64
	Folder    string   // relative to the host's files
	Links     []string // what of a tenant leads there
	Files     int64
	Bytes     int64
	MadeAt    time.Time
	Tenants   int      // sites that share it
	Copies    int      // safety copies of sites that shared it
	CopiesOf  []string // those sites
}

const installQuery = `SELECT i.id, i.name, i.host_id, h.name AS host, i.made_at,
	(SELECT count(*) FROM sites s JOIN install_codes c ON c.id = s.code_id WHERE c.install_id = i.id AND s.retired_at IS NULL)::int AS tenants
	FROM installs i JOIN hosts h ON h.id = i.host_id `

const codeQuery = `SELECT c.id, c.install_id, i.name AS install, i.host_id, c.release_id, t.name || '@' || r.number AS release, t.kind, c.run_id,
	c.folder, c.links, c.files, c.bytes, c.made_at,
	(SELECT count(*) FROM sites s WHERE s.code_id = c.id AND s.retired_at IS NULL)::int AS tenants,
	(SELECT count(*) FROM site_copies k WHERE k.code_id = c.id)::int AS copies,
	ARRAY(SELECT DISTINCT s.name FROM site_copies k JOIN sites s ON s.id = k.site_id WHERE k.code_id = c.id ORDER BY s.name) AS copies_of
	FROM install_codes c JOIN installs i ON i.id = c.install_id JOIN releases r ON r.id = c.release_id JOIN starters t ON t.id = r.starter_id `

// Installs lists all installs.
func (db *DB) Installs(ctx context.Context) ([]Install, error) {
	return many[Install](ctx, db, installQuery+"ORDER BY i.name")
}

// Install returns an install by name.
func (db *DB) Install(ctx context.Context, name string) (Install, error) {
	return one[Install](ctx, db, "install", name, installQuery+"WHERE i.name = $1", name)
}

// InstallCodes lists the code of an install, newest first.
func (db *DB) InstallCodes(ctx context.Context, installID int64) ([]InstallCode, error) {
	return many[InstallCode](ctx, db, codeQuery+"WHERE c.install_id = $1 ORDER BY c.id DESC", installID)
}

// InstallCode returns code by its number.
func (db *DB) InstallCode(ctx context.Context, id int64) (InstallCode, error) {
	return one[InstallCode](ctx, db, "code of an install", itoa(id), codeQuery+"WHERE c.id = $1", id)
}

// CodeOfRun returns the code that a run has placed. Errors: ErrNotFound.
func (db *DB) CodeOfRun(ctx context.Context, runID int64) (InstallCode, error) {
	return one[InstallCode](ctx, db, "code of an install", itoa(runID), codeQuery+"WHERE c.run_id = $1", runID)
}

// Tenants lists the sites that share code of an install.
func (db *DB) Tenants(ctx context.Context, installID int64) ([]Site, error) {
	return many[Site](ctx, db, siteQuery+"WHERE ic.install_id = $1 AND s.retired_at IS NULL ORDER BY s.name", installID)
}

// TenantNames returns the addresses of the sites that share code of an install, by their names.
func (db *DB) TenantNames(ctx context.Context, installID int64) (map[string]string, error) {
	type row struct{ Name, Address string }
	rows, err := many[row](ctx, db, "SELECT s.name, s.address FROM sites s JOIN install_codes ic ON ic.id = s.code_id "+
		"WHERE ic.install_id = $1 AND s.retired_at IS NULL", installID)
	out := map[string]string{}
	for _, r := range rows {
		out[r.Name] = r.Address
	}
	return out, err
}

// ClientsOfInstall returns the numbers of the clients whose sites share the code of an install.
func (db *DB) ClientsOfInstall(ctx context.Context, installID int64) ([]int64, error) {
	rows, err := db.Pool.Query(ctx, "SELECT DISTINCT s.client_id FROM sites s JOIN install_codes ic ON ic.id = s.code_id "+
		"WHERE ic.install_id = $1 AND s.retired_at IS NULL", installID)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[int64])
}

// Sharing is a site that shares code, or a safety copy of one that did and lies on its host.
type Sharing struct {
	SiteID  int64
	CopyID  int64 // 0 for the site as it stands
	Address string
}

// SharingCode lists what finds, or found, its site in code of an install.
func (db *DB) SharingCode(ctx context.Context, codeID int64) ([]Sharing, error) {
	return many[Sharing](ctx, db, "SELECT id AS site_id, 0::bigint AS copy_id, address FROM sites WHERE code_id = $1 AND retired_at IS NULL "+
		"UNION ALL SELECT site_id, id, address FROM site_copies WHERE code_id = $1 AND archive = '' AND address <> ''", codeID)
}

// AddInstallCode records code that a run has placed and, where there is none of the name yet, its install.
func (db *DB) AddInstallCode(ctx context.Context, c InstallCode) error {
	return db.keep(ctx, c.Install, c.RunID, func(tx pgx.Tx) error {
		var id int64
		if err := tx.QueryRow(ctx, "INSERT INTO installs (name, host_id) VALUES ($1, $2) ON CONFLICT (name) DO UPDATE SET name = $1 RETURNING id",
			c.Install, c.HostID).Scan(&id); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, "INSERT INTO install_codes (install_id, release_id, run_id, folder, links, files, bytes) VALUES ($1, $2, $3, $4, "+
			"$5, $6, $7)", id, c.ReleaseID, c.RunID, c.Folder, c.Links, c.Files, c.Bytes)
		return err
	})
}

// RemoveInstallCode forgets code that no site shares and no safety copy has shared, and the install when it was its last. What is to be
// removed from the host is in the run's journal in the same moment. Errors: ErrInUse.
func (db *DB) RemoveInstallCode(ctx context.Context, c InstallCode, runID int64, made provision.Made) error {
	return explain("code of an install", c.Release, pgx.BeginFunc(ctx, db.Pool, func(tx pgx.Tx) error {
		if err := fence(ctx, tx); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, "UPDATE sites SET code_id = NULL WHERE code_id = $1 AND retired_at IS NOT NULL", c.ID); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, "DELETE FROM install_codes WHERE id = $1", c.ID); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, "DELETE FROM installs i WHERE id = $1 AND NOT EXISTS (SELECT FROM install_codes c WHERE c.install_id = i.id)",
			c.InstallID); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, "INSERT INTO run_journal (run_id, made) VALUES ($1, $2)", runID, made)
		return err
	}))
}
