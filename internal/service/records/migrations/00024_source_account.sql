-- The account of a source's database that an owner has confirmed though it may read other databases, too.
-- +goose Up
ALTER TABLE sources ADD COLUMN account text NOT NULL DEFAULT '';
-- +goose Down
ALTER TABLE sources DROP COLUMN account;
