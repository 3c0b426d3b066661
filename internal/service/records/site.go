package records

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"nestseed/internal/core/check"
	"nestseed/internal/core/provision"
)

// Standing is what a site is on its host and to the world. These are facts of the records: no plan, and nothing that stands
// in a site's own folder, is asked for them.
type Standing struct {
	Database string
	DBUser   string
	Prefix   string // of its tables
	Admin    string // name of its administrator
	Visible  bool   // to search engines
	Quiet    bool   // its mail is kept from going out
	CodeID   *int64 // the code of an install that it shares; nil where it has its own
}

// StandingOf returns what a site is that was just made.
func StandingOf(p *provision.Plan, r *provision.Result) Standing {
	return Standing{Database: p.Database, DBUser: p.User, Prefix: p.Prefix, Admin: r.Admin, Visible: p.Visible, Quiet: r.Quiet}
}

const standingColumns = "database, db_user, prefix, admin, visible, quiet, code_id"

func (s Standing) values() []any {
	return []any{s.Database, s.DBUser, s.Prefix, s.Admin, s.Visible, s.Quiet, s.CodeID}
}

// Site is something that was provisioned.
type Site struct {
	Standing
	ID        int64
	Name      string
	ClientID  int64
	Client    string
	HostID    int64
	Host      string
	ReleaseID int64
	Release   string
	Kind      string // of its starter
	RunID     int64
	Address   string
	Folder    string
	Plan      *provision.Plan
	Result    *provision.Result
	Report    *check.Report
	MadeAt    time.Time
	Held      bool
	RetiredAt *time.Time
	Behind    int         // releases of its starter that are newer
	KeepLast  int         // safety copies that are kept; 0 for all
	KeepDays  int         // days after which a safety copy is dropped; 0 for never
	Lead      *check.Lead // where its name leads, on a host that says where it should
	Install   string      // whose code it shares
	Code      string      // the folder of that, relative to the host's files
}

const siteQuery = `SELECT s.id, s.name, s.client_id, c.name AS client, s.host_id, h.name AS host, s.release_id, t.name || '@' || r.number
	AS release, t.kind, s.run_id,
	s.address, s.folder, s.database, s.db_user, s.prefix, s.admin, s.visible, s.quiet, s.code_id, COALESCE(i.name, '') AS install,
	COALESCE(ic.folder, '') AS code, s.plan, s.result, s.report, s.made_at, s.held,
		s.retired_at, s.keep_last, s.keep_days, s.lead,
	(SELECT count(*) FROM releases x WHERE x.starter_id = r.starter_id AND x.number > r.number)::int AS behind
	FROM sites s JOIN clients c ON c.id = s.client_id JOIN hosts h ON h.id = s.host_id JOIN releases r ON r.id = s.release_id
		JOIN starters t ON t.id = r.starter_id LEFT JOIN install_codes ic ON ic.id = s.code_id LEFT JOIN installs i ON i.id = ic.install_id `

// Sites lists all sites.
func (db *DB) Sites(ctx context.Context) ([]Site, error) {
	return many[Site](ctx, db, siteQuery+"WHERE s.retired_at IS NULL ORDER BY s.name")
}

// Site returns a site by name or address.
func (db *DB) Site(ctx context.Context, name string) (Site, error) {
	return one[Site](ctx, db, "site", name, siteQuery+"WHERE (s.name = $1 OR s.address = $1) AND s.retired_at IS NULL", name)
}

// SiteOrRetired returns a site, or, when there is none of the name, the one that was retired last.
func (db *DB) SiteOrRetired(ctx context.Context, name string) (Site, error) {
	return one[Site](ctx, db, "site", name, siteQuery+"WHERE s.name = $1 OR s.address = $1 ORDER BY s.retired_at DESC NULLS FIRST LIMIT 1",
		name)
}

// SiteByID returns a site, also one that was retired.
func (db *DB) SiteByID(ctx context.Context, id int64) (Site, error) {
	return one[Site](ctx, db, "site", itoa(id), siteQuery+"WHERE s.id = $1", id)
}

// AddSite keeps a site that was made, with what is still to be done on it.
func (db *DB) AddSite(ctx context.Context, s Site, tasks []LaunchTask) error {
	return db.keep(ctx, s.Name, s.RunID, func(tx pgx.Tx) error {
		var id int64
		err := tx.QueryRow(ctx, `INSERT INTO sites (name, client_id, host_id, release_id, run_id, address, folder, plan, result, held,
			`+standingColumns+`)
			VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16, $17) RETURNING id`,
			append([]any{s.Name, s.ClientID, s.HostID, s.ReleaseID, s.RunID, s.Address, s.Folder, s.Plan, s.Result, s.Held},
				s.values()...)...).Scan(&id)
		if err != nil {
			return err
		}
		return addLaunchTasks(ctx, tx, id, tasks)
	})
}

// keep records what a run has made of a site and, in the same moment, that it is not taken back any more.
func (db *DB) keep(ctx context.Context, site string, runID int64, record func(pgx.Tx) error) error {
	return explain("site", site, pgx.BeginFunc(ctx, db.Pool, func(tx pgx.Tx) error {
		if err := fence(ctx, tx); err != nil {
			return err
		}
		if err := record(tx); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, clearMade, runID)
		return err
	}))
}

// LaunchTask is something a person must still do on a site.
type LaunchTask struct {
	Key    string
	Title  string
	Detail string
	Page   string
	Due    *time.Time // the day by which it is to be done
	DoneAt *time.Time
	DoneBy string
}

// addLaunchTasks keeps what must be done on a site, in order.
func addLaunchTasks(ctx context.Context, tx pgx.Tx, siteID int64, tasks []LaunchTask) error {
	for i, t := range tasks {
		_, err := tx.Exec(ctx, `INSERT INTO launch_tasks (site_id, place, key, title, detail, page) VALUES ($1, $2, $3, $4, $5, $6)
			ON CONFLICT (site_id, key) DO UPDATE SET place = $2, title = $4, detail = $5, page = $6`, siteID, i, t.Key, t.Title, t.Detail, t.Page)
		if err != nil {
			return err
		}
	}
	return nil
}

// LaunchTasks lists what must be, or was, done on a site.
func (db *DB) LaunchTasks(ctx context.Context, siteID int64) ([]LaunchTask, error) {
	return many[LaunchTask](ctx, db, "SELECT key, title, detail, page, due, done_at, done_by FROM launch_tasks WHERE "+
		"site_id = $1 ORDER BY place", siteID)
}

// TickTask notes that a task was done, or that it was not after all.
func (db *DB) TickTask(ctx context.Context, siteID int64, key, who string, done bool) error {
	return db.exec(ctx, "launch task", key,
		`UPDATE launch_tasks SET done_at = CASE WHEN $3 THEN now() END, done_by = CASE WHEN $3 THEN $4 ELSE '' END WHERE site_id = $1
			AND key = $2`, siteID, key, done, who)
}

// SetTaskDue says by which day a launch task is to be done; nil for none.
func (db *DB) SetTaskDue(ctx context.Context, siteID int64, key string, due *time.Time) error {
	return db.exec(ctx, "launch task", key, "UPDATE launch_tasks SET due = $3 WHERE site_id = $1 AND key = $2", siteID, key, due)
}

// SiteOfRun reports whether a run has made its site.
func (db *DB) SiteOfRun(ctx context.Context, runID int64) (found bool, err error) {
	err = db.Pool.QueryRow(ctx, "SELECT EXISTS (SELECT FROM sites WHERE run_id = $1)", runID).Scan(&found)
	return found, err
}

// SetReport keeps the newest report of checks of a site.
func (db *DB) SetReport(ctx context.Context, name string, r *check.Report) error {
	if err := db.exec(ctx, "site", name, "UPDATE sites SET report = $2 WHERE name = $1 AND retired_at IS NULL", name, r); err != nil {
		return err
	}
	return db.countAccepted(ctx, "s.name = $1 AND s.retired_at IS NULL", name)
}

// Watched is a site whose name is to lead to what its host says to connect to.
type Watched struct {
	ID      int64
	Name    string
	Address string
	Connect string
	Lead    *check.Lead
}

// Watched lists the sites on hosts that say what to connect to, but for those whose names were seen to lead there since.
func (db *DB) Watched(ctx context.Context, since time.Time) ([]Watched, error) {
	return many[Watched](ctx, db, `SELECT s.id, s.name, s.address, h.connect, s.lead FROM sites s JOIN hosts h ON h.id = s.host_id
		WHERE s.retired_at IS NULL AND h.connect <> '' AND (s.lead IS NULL OR NOT (s.lead->>'there')::boolean OR (s.lead->>'at')::timestamptz <
			$1) ORDER BY s.name`, since)
}

// SetLead records where the name in a site's address leads, unless the site has another address by now.
func (db *DB) SetLead(ctx context.Context, id int64, address string, l *check.Lead) error {
	_, err := db.Pool.Exec(ctx, "UPDATE sites SET lead = $3 WHERE id = $1 AND address = $2", id, address, l)
	return err
}

// SiteCounts is how many there are of each noun, for the navigation.
type SiteCounts struct {
	Sources, Starters, Clients, Sites, Working, Hosts int
}

// Counts returns the counts.
func (db *DB) Counts(ctx context.Context) (SiteCounts, error) {
	return one[SiteCounts](ctx, db, "count", "", `SELECT (SELECT count(*) FROM sources)::int AS sources,
		(SELECT count(*) FROM starters)::int AS starters,
		(SELECT count(*) FROM clients)::int AS clients, (SELECT count(*) FROM sites WHERE retired_at IS NULL)::int AS sites,
			(SELECT count(*) FROM hosts)::int AS hosts,
		(SELECT count(*) FROM runs WHERE status IN ('waiting', 'working'))::int AS working`)
}
