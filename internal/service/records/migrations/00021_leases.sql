-- Running copies of the service, what each holds, and runs that wait for the runs that they have started.
-- +goose Up
CREATE TABLE instances (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  started_at timestamptz NOT NULL DEFAULT now(),
  expires_at timestamptz NOT NULL
);
CREATE SEQUENCE lease_epochs;
CREATE TABLE leases (
  name text PRIMARY KEY,
  instance_id bigint NOT NULL REFERENCES instances ON DELETE CASCADE,
  epoch bigint NOT NULL DEFAULT nextval('lease_epochs')
);
ALTER TABLE runs DROP COLUMN beat_at, ADD COLUMN instance_id bigint, ADD COLUMN parent_id bigint REFERENCES runs, ADD COLUMN purpose text NOT NULL DEFAULT '',
  ADD COLUMN aside boolean NOT NULL DEFAULT false;
CREATE UNIQUE INDEX ON runs (parent_id, purpose) WHERE parent_id IS NOT NULL;
CREATE INDEX ON runs (target) WHERE status IN ('waiting', 'working');
-- +goose Down
ALTER TABLE runs DROP COLUMN aside, DROP COLUMN purpose, DROP COLUMN parent_id, DROP COLUMN instance_id, ADD COLUMN beat_at timestamptz;
DROP TABLE leases, instances;
DROP SEQUENCE lease_epochs;
