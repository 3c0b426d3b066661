-- +goose Up
ALTER TABLE sites ADD COLUMN lead jsonb;
-- +goose Down
ALTER TABLE sites DROP COLUMN lead;
