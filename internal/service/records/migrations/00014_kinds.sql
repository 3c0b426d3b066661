-- What CMS families are known beside those that come with the program.
-- +goose Up
CREATE TABLE kinds (
	name text PRIMARY KEY,
	definition text NOT NULL,
	added_by text NOT NULL,
	added_at timestamptz NOT NULL DEFAULT now()
);

-- +goose Down
DROP TABLE kinds;
