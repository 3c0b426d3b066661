-- What lists of sites show is kept beside the documents that it is taken from, so that a list reads none of them. What was found and is known to
-- be harmless is accepted, for one site, for all sites of a starter, or for a source, until something else is found.
-- +goose Up
ALTER TABLE sites
  ADD COLUMN title text GENERATED ALWAYS AS (COALESCE(jsonb_path_query_first(plan, '$.values[*] ? (@.key == "title").value') #>> '{}', '')) STORED,
  ADD COLUMN bytes bigint GENERATED ALWAYS AS (COALESCE((plan->>'bytes')::bigint, 0)) STORED,
  ADD COLUMN passed integer GENERATED ALWAYS AS (COALESCE(jsonb_array_length(jsonb_path_query_array(report, '$.checks[*] ? (@.result == "pass")')), 0)) STORED,
  ADD COLUMN warned integer GENERATED ALWAYS AS (COALESCE(jsonb_array_length(jsonb_path_query_array(report, '$.checks[*] ? (@.result == "warn")')), 0)) STORED,
  ADD COLUMN failed integer GENERATED ALWAYS AS (COALESCE(jsonb_array_length(jsonb_path_query_array(report, '$.checks[*] ? (@.result == "fail")')), 0)) STORED,
  ADD COLUMN checked_at text GENERATED ALWAYS AS (report->>'at') STORED,
  ADD COLUMN accepted integer NOT NULL DEFAULT 0;
CREATE INDEX sites_client ON sites (client_id);
CREATE INDEX sites_release ON sites (release_id);
CREATE INDEX launch_tasks_open ON launch_tasks (site_id) WHERE done_at IS NULL;
ALTER TABLE launch_tasks ADD COLUMN due date;
CREATE TABLE acceptances (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  site_id bigint REFERENCES sites ON DELETE CASCADE,
  starter_id bigint REFERENCES starters ON DELETE CASCADE,
  source_id bigint REFERENCES sources ON DELETE CASCADE,
  what text NOT NULL,
  mark text NOT NULL,
  reason text NOT NULL,
  who text NOT NULL,
  at timestamptz NOT NULL DEFAULT now(),
  CHECK (num_nonnulls(site_id, starter_id, source_id) = 1),
  UNIQUE NULLS NOT DISTINCT (site_id, starter_id, source_id, what)
);
-- +goose Down
DROP TABLE acceptances;
ALTER TABLE launch_tasks DROP COLUMN due;
DROP INDEX sites_client, sites_release, launch_tasks_open;
ALTER TABLE sites DROP COLUMN title, DROP COLUMN bytes, DROP COLUMN passed, DROP COLUMN warned, DROP COLUMN failed, DROP COLUMN checked_at, DROP COLUMN accepted;
