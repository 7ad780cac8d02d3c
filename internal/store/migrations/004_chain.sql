-- +goose Up
-- Each entry of the journal carries the hash of the one before, and ids count
-- without a gap. What is there already is sealed at the next start.
ALTER TABLE journal
    MODIFY id BIGINT NOT NULL,
    ADD COLUMN IF NOT EXISTS prev CHAR(64) CHARACTER SET ascii NOT NULL DEFAULT '',
    ADD COLUMN IF NOT EXISTS hash CHAR(64) CHARACTER SET ascii NOT NULL DEFAULT '';

-- The newest entry. Its one row is locked by whoever adds the next.
CREATE TABLE IF NOT EXISTS journal_head (
    one  TINYINT  PRIMARY KEY,
    id   BIGINT   NOT NULL,
    hash CHAR(64) CHARACTER SET ascii NOT NULL
);

-- How far a copy of the journal has come.
CREATE TABLE IF NOT EXISTS journal_copy (
    name VARCHAR(16) PRIMARY KEY,
    id   BIGINT      NOT NULL
);

-- +goose Down
DROP TABLE journal_head, journal_copy;
ALTER TABLE journal MODIFY id BIGINT NOT NULL AUTO_INCREMENT, DROP prev, DROP hash;
