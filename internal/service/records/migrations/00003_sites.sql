-- +goose Up
ALTER TABLE sites ADD COLUMN held boolean NOT NULL DEFAULT false;
ALTER TABLE sites ADD COLUMN retired_at timestamptz;
ALTER TABLE sites DROP CONSTRAINT sites_name_key;
ALTER TABLE sites DROP CONSTRAINT sites_address_key;
CREATE UNIQUE INDEX sites_name ON sites (name) WHERE retired_at IS NULL;
CREATE UNIQUE INDEX sites_address ON sites (address) WHERE retired_at IS NULL;
ALTER TABLE releases ADD COLUMN places jsonb;
CREATE TABLE site_copies (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  site_id bigint NOT NULL REFERENCES sites,
  made_at timestamptz NOT NULL DEFAULT now(),
  why text NOT NULL CHECK (why IN ('replaced', 'asked', 'retired')),
  run_id bigint NOT NULL,
  bytes bigint NOT NULL,
  archive text NOT NULL DEFAULT '',
  folder text NOT NULL DEFAULT '',
  release_id bigint REFERENCES releases,
  site_run_id bigint,
  plan jsonb,
  result jsonb,
  report jsonb,
  held boolean NOT NULL DEFAULT false
);
CREATE INDEX ON site_copies (site_id, made_at DESC);
-- +goose Down
DROP TABLE site_copies;
ALTER TABLE releases DROP COLUMN places;
DROP INDEX sites_name, sites_address;
DELETE FROM sites WHERE retired_at IS NOT NULL;
ALTER TABLE sites ADD UNIQUE (name), ADD UNIQUE (address), DROP COLUMN held, DROP COLUMN retired_at;
