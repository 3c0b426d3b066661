-- +goose Up
ALTER TABLE hosts ADD COLUMN runtimes jsonb NOT NULL DEFAULT '[]';
-- +goose Down
ALTER TABLE hosts DROP COLUMN runtimes;
