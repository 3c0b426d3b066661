-- +goose Up
-- What a site is, as facts that nothing else is asked for.
ALTER TABLE sites ADD COLUMN database text NOT NULL DEFAULT '', ADD COLUMN db_user text NOT NULL DEFAULT '', ADD COLUMN prefix text NOT NULL DEFAULT '',
  ADD COLUMN admin text NOT NULL DEFAULT '', ADD COLUMN visible boolean NOT NULL DEFAULT false, ADD COLUMN quiet boolean NOT NULL DEFAULT false;
UPDATE sites SET database = COALESCE(plan->>'database', ''), db_user = COALESCE(plan->>'user', ''), prefix = COALESCE(plan->>'prefix', ''),
  admin = COALESCE(result->>'admin', ''), visible = COALESCE((plan->>'visible')::boolean, false), quiet = COALESCE((result->>'quiet')::boolean, false);
ALTER TABLE site_copies ADD COLUMN database text NOT NULL DEFAULT '', ADD COLUMN db_user text NOT NULL DEFAULT '', ADD COLUMN prefix text NOT NULL DEFAULT '',
  ADD COLUMN admin text NOT NULL DEFAULT '', ADD COLUMN visible boolean NOT NULL DEFAULT false, ADD COLUMN quiet boolean NOT NULL DEFAULT false,
  ADD COLUMN sums_sha256 text NOT NULL DEFAULT '';
UPDATE site_copies SET database = COALESCE(plan->>'database', ''), db_user = COALESCE(plan->>'user', ''), prefix = COALESCE(plan->>'prefix', ''),
  admin = COALESCE(result->>'admin', ''), visible = COALESCE((plan->>'visible')::boolean, false), quiet = COALESCE((result->>'quiet')::boolean, false)
  WHERE plan IS NOT NULL;
-- Attempts at a run, so that one that was overtaken writes nothing any more.
ALTER TABLE runs ADD COLUMN attempt integer NOT NULL DEFAULT 0, ADD COLUMN interruptions integer NOT NULL DEFAULT 0, ADD COLUMN beat_at timestamptz;
-- What the service has written into its store: nothing else is ever removed there.
CREATE TABLE stored (
  name text PRIMARY KEY,
  run_id bigint,
  made_at timestamptz NOT NULL DEFAULT now()
);
INSERT INTO stored (name, run_id) SELECT archive, run_id FROM releases WHERE archive <> '' ON CONFLICT DO NOTHING;
INSERT INTO stored (name, run_id) SELECT archive, run_id FROM site_copies WHERE archive <> '' ON CONFLICT DO NOTHING;
ALTER TABLE tokens ADD COLUMN expires_at timestamptz;
ALTER TABLE runs RENAME COLUMN sort TO job;
UPDATE runs SET job = 'screenshots' WHERE job = 'look';
-- +goose Down
UPDATE runs SET job = 'look' WHERE job = 'screenshots';
ALTER TABLE runs RENAME COLUMN job TO sort;
ALTER TABLE tokens DROP COLUMN expires_at;
DROP TABLE stored;
ALTER TABLE runs DROP COLUMN attempt, DROP COLUMN interruptions, DROP COLUMN beat_at;
ALTER TABLE site_copies DROP COLUMN database, DROP COLUMN db_user, DROP COLUMN prefix, DROP COLUMN admin, DROP COLUMN visible, DROP COLUMN quiet, DROP COLUMN sums_sha256;
ALTER TABLE sites DROP COLUMN database, DROP COLUMN db_user, DROP COLUMN prefix, DROP COLUMN admin, DROP COLUMN visible, DROP COLUMN quiet;
