-- The key or certificate that a host has shown, where its files are reached over a network.
-- +goose Up
ALTER TABLE hosts ADD COLUMN host_key text NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE hosts DROP COLUMN host_key;
