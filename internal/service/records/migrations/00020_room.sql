-- What Today looks ahead to: the room that hosts have left, and the day on which the certificate of a site ends.
-- +goose Up
ALTER TABLE hosts ADD COLUMN room jsonb;
ALTER TABLE sites ADD COLUMN certificate_ends text GENERATED ALWAYS AS (report->>'certificate_ends') STORED;
-- +goose Down
ALTER TABLE sites DROP COLUMN certificate_ends;
ALTER TABLE hosts DROP COLUMN room;
