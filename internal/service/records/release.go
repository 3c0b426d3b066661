package records

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/contents"
)

// Release is one build of a starter.
type Release struct {
	ID           int64
	StarterID    int64
	Starter      string
	Number       int
	Archive      string // its name in the store; empty when it was discarded
	ArchiveBytes int64
	SumsSha256   string
	Manifest     *archive.Manifest
	RunID        *int64
	VerifiedAt   *time.Time
	Faults       int
	Sites        int
	BeforeBytes  *int64 // size of the release before
	SourceID     *int64
	// SecretsSealed is what must not be in the archive, sealed, so that a rebuild knows whether it is the same.
	SecretsSealed string
	ImportedFrom  string
	Difference    *Difference // to the release before; nil for the first
	DiscardedAt   *time.Time
	DiscardedWhy  string
}

// Ref returns the release as it is written.
func (r Release) Ref() string { return fmt.Sprintf("%s@%d", r.Starter, r.Number) }

// Difference says why an archive's size differs from that of the release before.
type Difference struct {
	From     string           `json:"from"`
	Sentence string           `json:"sentence"`
	Causes   []contents.Cause `json:"causes"`
}

// SetDifference keeps how a release differs from the one before.
func (db *DB) SetDifference(ctx context.Context, ref string, d Difference) error {
	name, number, _ := strings.Cut(ref, "@")
	return db.exec(ctx, "release", ref,
		"UPDATE releases r SET difference = $3 FROM starters t WHERE t.id = r.starter_id AND t.name = $1 AND r.number = $2::int", name, number, d)
}

const releaseQuery = `SELECT r.id, r.starter_id, t.name AS starter, r.number, r.archive, r.archive_bytes, r.sums_sha256, r.manifest,
	r.run_id, r.verified_at, r.faults, r.source_id, r.secrets_sealed, r.imported_from, r.difference, r.discarded_at, r.discarded_why,
	(SELECT count(*) FROM sites s WHERE s.release_id = r.id AND s.retired_at IS NULL)::int AS sites,
	(SELECT p.archive_bytes FROM releases p WHERE p.starter_id = r.starter_id AND p.number < r.number ORDER BY p.number DESC LIMIT 1)
		AS before_bytes
	FROM releases r JOIN starters t ON t.id = r.starter_id `

// Releases lists releases, newest first; of one starter unless its name is empty.
func (db *DB) Releases(ctx context.Context, starter string) ([]Release, error) {
	return many[Release](ctx, db, releaseQuery+"WHERE $1 = '' OR t.name = $1 ORDER BY t.name, r.number DESC", starter)
}

// Release returns a release by reference: name@3, or name for the newest.
func (db *DB) Release(ctx context.Context, ref string) (Release, error) {
	name, number, numbered := strings.Cut(ref, "@")
	n := 0
	if numbered {
		var err error
		if n, err = strconv.Atoi(number); err != nil || n < 1 {
			return Release{}, fmt.Errorf("%q is not a release: %w; write it like music-base@3, or music-base for the newest", ref, ErrNotFound)
		}
	}
	return one[Release](ctx, db, "release", ref, releaseQuery+
		"WHERE t.name = $1 AND ($2 = 0 OR r.number = $2) ORDER BY r.number DESC LIMIT 1", name, n)
}

// ReleaseByID returns a release.
func (db *DB) ReleaseByID(ctx context.Context, id int64) (Release, error) {
	return one[Release](ctx, db, "release", "", releaseQuery+"WHERE r.id = $1", id)
}

// NextNumber returns the number that a starter's next release will have.
func (db *DB) NextNumber(ctx context.Context, starterID int64) (n int, err error) {
	err = db.Pool.QueryRow(ctx, "SELECT COALESCE(max(number), 0) + 1 FROM releases WHERE starter_id = $1", starterID).Scan(&n)
	return n, err
}

// AddRelease keeps a release whose archive is in the store; contents is its index.
func (db *DB) AddRelease(ctx context.Context, r Release, contents []byte) error {
	return db.fenced(ctx, "release", fmt.Sprintf("%s@%d", r.Starter, r.Number), `INSERT INTO releases (starter_id, number, archive,
		archive_bytes, sums_sha256, manifest, run_id, source_id, secrets_sealed, imported_from, contents)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10,
			$11)`, r.StarterID, r.Number, r.Archive, r.ArchiveBytes, r.SumsSha256, r.Manifest, r.RunID, r.SourceID, r.SecretsSealed, r.ImportedFrom, contents)
}

// ReleaseOfRun reports whether a run has made its release.
func (db *DB) ReleaseOfRun(ctx context.Context, runID int64) (found bool, err error) {
	err = db.Pool.QueryRow(ctx, "SELECT EXISTS (SELECT FROM releases WHERE run_id = $1)", runID).Scan(&found)
	return found, err
}

// Contents returns a release's index of its archive; nil when it was not kept.
func (db *DB) Contents(ctx context.Context, id int64) (index []byte, err error) {
	err = db.Pool.QueryRow(ctx, "SELECT contents FROM releases WHERE id = $1", id).Scan(&index)
	return index, err
}

// SetContents keeps the index of an archive.
func (db *DB) SetContents(ctx context.Context, id int64, index []byte) error {
	return db.exec(ctx, "release", "", "UPDATE releases SET contents = $2 WHERE id = $1", id, index)
}

// Discard notes that a release's archive is gone, and returns its name in the store. A release whose archive was
// discarded before gives "".
func (db *DB) Discard(ctx context.Context, id int64, why string) (archive string, err error) {
	err = db.Pool.QueryRow(ctx, `WITH old AS (SELECT archive FROM releases WHERE id = $1 FOR UPDATE),
		u AS (UPDATE releases SET archive = '', discarded_at = COALESCE(discarded_at, now()), discarded_why = CASE WHEN archive = ''
			THEN discarded_why ELSE $2 END WHERE id = $1)
		SELECT archive FROM old`, id, why).Scan(&archive)
	return archive, err
}

// SetVerified notes that a release was verified, and how many faults there were.
func (db *DB) SetVerified(ctx context.Context, id int64, faults int) error {
	return db.exec(ctx, "release", "", "UPDATE releases SET verified_at = now(), faults = $2 WHERE id = $1", id, faults)
}

// ToVerify returns the release that is most in need of being verified again: one whose archive is kept, that was made before settled, and
// not verified after since. Errors: ErrNotFound, when there is none.
func (db *DB) ToVerify(ctx context.Context, since, settled time.Time) (Release, error) {
	return one[Release](ctx, db, "release", "", releaseQuery+`WHERE r.archive <> '' AND (r.manifest->>'made')::timestamptz < $2
		AND (r.verified_at IS NULL OR r.verified_at < $1) ORDER BY r.verified_at NULLS FIRST, r.id DESC LIMIT 1`, since, settled)
}
