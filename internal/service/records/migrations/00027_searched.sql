-- Files in which checks have found nothing: of a release, and of a site, whose are searched again after a week.
-- +goose Up
ALTER TABLE releases ADD COLUMN searched bytea;
ALTER TABLE sites ADD COLUMN searched bytea, ADD COLUMN searched_at timestamptz;
-- +goose Down
ALTER TABLE releases DROP COLUMN searched;
ALTER TABLE sites DROP COLUMN searched, DROP COLUMN searched_at;
