package records

import (
	"context"
	"time"

	"nestseed/internal/core/filelist"
	"nestseed/internal/core/survey"
)

// Source is a site that starters are built from.
type Source struct {
	ID        int64
	Name      string
	HostID    int64
	Host      string
	Path      string
	Kind      string
	Version   string
	Address   string
	Database  string
	Prefix    string // of its tables, where it was given
	Network   bool   // it is a network of sites, whole
	SubSite   string // of a network, where it is only that
	Account   string // of its database, that an owner has confirmed though it may read other databases; "" for none
	CreatedAt time.Time
	FromSite  *int64         // the site that it is, when it was provisioned itself
	Survey    *survey.Survey // the newest, without its list of files
}

const sourceQuery = `SELECT s.id, s.name, s.host_id, h.name AS host, s.path, s.kind, s.version, s.address, s.database, s.prefix, s.network, s.sub_site, s.account,
	s.created_at,
	s.from_site,
	(SELECT v.survey FROM surveys v WHERE v.source_id = s.id ORDER BY v.taken_at DESC LIMIT 1) AS survey
	FROM sources s JOIN hosts h ON h.id = s.host_id `

// Sources lists all sources.
func (db *DB) Sources(ctx context.Context) ([]Source, error) {
	return many[Source](ctx, db, sourceQuery+"ORDER BY s.name")
}

// Source returns a source by name.
func (db *DB) Source(ctx context.Context, name string) (Source, error) {
	return one[Source](ctx, db, "source", name, sourceQuery+"WHERE s.name = $1", name)
}

// SourceAt returns the source at an address.
func (db *DB) SourceAt(ctx context.Context, address string) (Source, error) {
	return one[Source](ctx, db, "source", address, sourceQuery+"WHERE s.address = $1 ORDER BY s.id LIMIT 1", address)
}

// SourceByID returns a source.
func (db *DB) SourceByID(ctx context.Context, id int64) (Source, error) {
	return one[Source](ctx, db, "source", "", sourceQuery+"WHERE s.id = $1", id)
}

// AddSource makes a source.
func (db *DB) AddSource(ctx context.Context, s Source) (Source, error) {
	err := db.exec(ctx, "source", s.Name,
		"INSERT INTO sources (name, host_id, path, kind, version, address, database, from_site, prefix, network, sub_site, account) "+
			"VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12)",
		s.Name, s.HostID, s.Path, s.Kind, s.Version, s.Address, s.Database, s.FromSite, s.Prefix, s.Network, s.SubSite, s.Account)
	if err != nil {
		return Source{}, err
	}
	return db.Source(ctx, s.Name)
}

// ChangeSource changes where a source is read and what it is, by its number.
func (db *DB) ChangeSource(ctx context.Context, s Source) error {
	return db.exec(ctx, "source", s.Name,
		"UPDATE sources SET path = $2, kind = $3, version = $4, address = $5, database = $6, from_site = $7, prefix = $8, "+
			"network = $9, sub_site = $10, account = $11 WHERE id = $1",
		s.ID, s.Path, s.Kind, s.Version, s.Address, s.Database, s.FromSite, s.Prefix, s.Network, s.SubSite, s.Account)
}

// RemoveSource removes a source that no starter uses. The site itself is not touched.
func (db *DB) RemoveSource(ctx context.Context, name string) error {
	return db.exec(ctx, "source", name, "DELETE FROM sources WHERE name = $1", name)
}

// AddSurvey keeps a survey; its list of files is kept beside it, compressed.
func (db *DB) AddSurvey(ctx context.Context, sourceID int64, s *survey.Survey) error {
	_, err := db.Pool.Exec(ctx, `WITH u AS (UPDATE sources SET version = $5, address = $6 WHERE id = $1)
		INSERT INTO surveys (source_id, taken_at, survey, files) VALUES ($1, $2, $3, $4)`,
		sourceID, s.TakenAt, s, filelist.Encode(s.Files), s.Version, s.Address)
	return err
}

// SurveyWithFiles returns the newest survey of a source with all its files.
func (db *DB) SurveyWithFiles(ctx context.Context, sourceID int64) (*survey.Survey, error) {
	type row struct {
		Survey *survey.Survey
		Files  []byte
	}
	r, err := one[row](ctx, db, "survey", "", "SELECT survey, files FROM surveys WHERE source_id = $1 ORDER BY taken_at DESC LIMIT 1",
		sourceID)
	if err != nil {
		return nil, err
	}
	r.Survey.Files, err = filelist.Decode(r.Files)
	return r.Survey, err
}

// SurveyTime returns when the newest survey of a source was taken.
func (db *DB) SurveyTime(ctx context.Context, sourceID int64) (t time.Time, err error) {
	err = db.Pool.QueryRow(ctx, "SELECT COALESCE(max(taken_at), 'epoch') FROM surveys WHERE source_id = $1", sourceID).Scan(&t)
	return t, err
}
