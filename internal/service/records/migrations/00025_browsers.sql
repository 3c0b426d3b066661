-- Browsers in which somebody has logged in: wrong passwords that others try do not keep them waiting.
-- +goose Up
CREATE TABLE browsers (
  hash bytea PRIMARY KEY,
  user_id bigint NOT NULL REFERENCES users ON DELETE CASCADE,
  seen_at timestamptz NOT NULL DEFAULT now()
);
-- +goose Down
DROP TABLE browsers;
