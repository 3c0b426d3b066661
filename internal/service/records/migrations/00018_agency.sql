-- Whose service it is, as its clients see it.
-- +goose Up
CREATE TABLE agency (
  only_one boolean PRIMARY KEY DEFAULT true CHECK (only_one),
  name text NOT NULL DEFAULT '',
  contact text NOT NULL DEFAULT '',
  colour text NOT NULL DEFAULT '',
  logo bytea NOT NULL DEFAULT ''
);
INSERT INTO agency DEFAULT VALUES;
-- +goose Down
DROP TABLE agency;
