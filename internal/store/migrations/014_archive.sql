-- +goose Up
-- Parts of the journal that are in files.
CREATE TABLE IF NOT EXISTS journal_archive (
    last  BIGINT       PRIMARY KEY,
    first BIGINT       NOT NULL,
    prev  CHAR(64)     NOT NULL COMMENT 'hash of the entry before the first',
    hash  CHAR(64)     NOT NULL COMMENT 'of the last',
    file  VARCHAR(100) NOT NULL,
    at    DATETIME(3)  NOT NULL
);

-- +goose Down
DROP TABLE journal_archive;
