-- +goose Up
-- When a log-in was used last: one that nobody uses ends.
ALTER TABLE session ADD COLUMN IF NOT EXISTS used_at DATETIME(3) NOT NULL DEFAULT UTC_TIMESTAMP(3);

-- +goose Down
ALTER TABLE session DROP COLUMN used_at;
