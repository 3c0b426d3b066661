-- +goose Up
CREATE TABLE handovers (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  site_id bigint NOT NULL REFERENCES sites ON DELETE CASCADE,
  key_hash bytea NOT NULL UNIQUE,
  made_at timestamptz NOT NULL DEFAULT now(),
  made_by text NOT NULL,
  expires_at timestamptz NOT NULL,
  opened_at timestamptz,
  withdrawn_at timestamptz
);
CREATE INDEX ON handovers (site_id, id DESC);
ALTER TABLE sources ADD COLUMN from_site bigint REFERENCES sites ON DELETE SET NULL;
ALTER TABLE sites ADD COLUMN keep_last integer NOT NULL DEFAULT 0;
ALTER TABLE sites ADD COLUMN keep_days integer NOT NULL DEFAULT 0;
ALTER TABLE sites ADD COLUMN side_by_side jsonb;
-- +goose Down
ALTER TABLE sites DROP COLUMN side_by_side, DROP COLUMN keep_days, DROP COLUMN keep_last;
ALTER TABLE sources DROP COLUMN from_site;
DROP TABLE handovers;
