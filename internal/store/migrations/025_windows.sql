-- +goose Up
-- Windows that come again and again, and those of what has a tag.
ALTER TABLE work_window ADD COLUMN IF NOT EXISTS tag VARCHAR(63) NOT NULL DEFAULT '';
ALTER TABLE work_window ADD COLUMN IF NOT EXISTS every VARCHAR(200) NOT NULL DEFAULT '' COMMENT 'when it comes; empty: once';
ALTER TABLE work_window ADD COLUMN IF NOT EXISTS lasts_s INT NOT NULL DEFAULT 0;
ALTER TABLE work_window ADD COLUMN IF NOT EXISTS zone VARCHAR(63) NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE work_window DROP COLUMN zone;
ALTER TABLE work_window DROP COLUMN lasts_s;
ALTER TABLE work_window DROP COLUMN every;
ALTER TABLE work_window DROP COLUMN tag;
