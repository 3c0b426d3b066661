-- A source that is a network of sites, or one sub-site of one.
-- +goose Up
ALTER TABLE sources ADD COLUMN network boolean NOT NULL DEFAULT false, ADD COLUMN sub_site text NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE sources DROP COLUMN network, DROP COLUMN sub_site;
