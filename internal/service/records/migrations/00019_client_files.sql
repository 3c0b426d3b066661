-- Pictures and files of clients, that their sites get: settings name them by the sum of what they hold.
-- +goose Up
CREATE TABLE client_files (
  client_id bigint NOT NULL REFERENCES clients ON DELETE CASCADE,
  sha256 text NOT NULL,
  name text NOT NULL,
  content bytea NOT NULL,
  added_at timestamptz NOT NULL DEFAULT now(),
  PRIMARY KEY (client_id, sha256)
);
-- +goose Down
DROP TABLE client_files;
