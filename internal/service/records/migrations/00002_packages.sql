-- +goose Up
ALTER TABLE starters ALTER COLUMN source_id DROP NOT NULL;
ALTER TABLE starters ADD COLUMN kind text NOT NULL DEFAULT '';
UPDATE starters t SET kind = s.kind FROM sources s WHERE s.id = t.source_id;
ALTER TABLE starters ADD COLUMN keep_last integer NOT NULL DEFAULT 0 CHECK (keep_last >= 0);
ALTER TABLE starters ADD COLUMN keep_weeks integer NOT NULL DEFAULT 0 CHECK (keep_weeks >= 0);
ALTER TABLE releases ADD COLUMN contents bytea;
ALTER TABLE releases ADD COLUMN source_id bigint REFERENCES sources ON DELETE SET NULL;
ALTER TABLE releases ADD COLUMN secrets_sealed text NOT NULL DEFAULT '';
ALTER TABLE releases ADD COLUMN imported_from text NOT NULL DEFAULT '';
ALTER TABLE releases ADD COLUMN difference jsonb;
ALTER TABLE releases ADD COLUMN discarded_at timestamptz;
ALTER TABLE releases ADD COLUMN discarded_why text NOT NULL DEFAULT '';
-- Lists of files are kept in another form; a survey is quickly taken again.
DELETE FROM surveys;
CREATE TABLE launch_tasks (
  site_id bigint NOT NULL REFERENCES sites ON DELETE CASCADE,
  place integer NOT NULL,
  key text NOT NULL,
  title text NOT NULL,
  detail text NOT NULL,
  page text NOT NULL,
  done_at timestamptz,
  done_by text NOT NULL DEFAULT '',
  PRIMARY KEY (site_id, key)
);
-- +goose Down
DROP TABLE launch_tasks;
ALTER TABLE releases DROP COLUMN contents, DROP COLUMN source_id, DROP COLUMN secrets_sealed, DROP COLUMN imported_from, DROP COLUMN difference, DROP COLUMN discarded_at, DROP COLUMN discarded_why;
ALTER TABLE starters DROP COLUMN kind, DROP COLUMN keep_last, DROP COLUMN keep_weeks;
ALTER TABLE starters ALTER COLUMN source_id SET NOT NULL;
