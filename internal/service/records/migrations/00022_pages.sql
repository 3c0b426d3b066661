-- Pages of the service that are in folders of hosts at this moment, or that could not be removed yet.
-- +goose Up
CREATE TABLE pages (
  host_id bigint NOT NULL REFERENCES hosts ON DELETE CASCADE,
  folder text NOT NULL,
  name text NOT NULL,
  instance_id bigint NOT NULL,
  placed_at timestamptz NOT NULL DEFAULT now(),
  PRIMARY KEY (host_id, folder, name)
);
-- +goose Down
DROP TABLE pages;
