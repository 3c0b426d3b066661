-- What the checks of its source found when a release was built, which the faults of new sites are compared with; and faults that are accepted,
-- until a day.
-- +goose Up
ALTER TABLE releases ADD COLUMN baseline jsonb;
ALTER TABLE acceptances ADD COLUMN until timestamptz;
ALTER TABLE sites ADD COLUMN accepted_faults integer NOT NULL DEFAULT 0;
-- +goose Down
ALTER TABLE releases DROP COLUMN baseline;
ALTER TABLE acceptances DROP COLUMN until;
ALTER TABLE sites DROP COLUMN accepted_faults;
