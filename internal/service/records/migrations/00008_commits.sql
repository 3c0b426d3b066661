-- +goose Up
ALTER TABLE runs ADD COLUMN committed boolean NOT NULL DEFAULT false;
-- +goose Down
ALTER TABLE runs DROP COLUMN committed;
