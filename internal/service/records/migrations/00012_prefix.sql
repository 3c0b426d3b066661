-- A source's table prefix, where its settings file does not tell it.
-- +goose Up
ALTER TABLE sources ADD COLUMN prefix text NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE sources DROP COLUMN prefix;
