-- Entries of journals that an overtaken attempt may still make, after its run was cleaned up.
-- +goose Up
ALTER TABLE run_journal ADD COLUMN over_at timestamptz, ADD COLUMN looked boolean NOT NULL DEFAULT false;
CREATE INDEX ON run_journal (over_at) WHERE over_at IS NOT NULL;
-- +goose Down
DELETE FROM run_journal WHERE over_at IS NOT NULL;
ALTER TABLE run_journal DROP COLUMN looked, DROP COLUMN over_at;
