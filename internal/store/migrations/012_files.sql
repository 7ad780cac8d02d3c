-- +goose Up
-- Files beside records: what was on a line or a screen, as proof.
CREATE TABLE IF NOT EXISTS file (
    id      CHAR(10)    PRIMARY KEY,
    site    VARCHAR(63) NOT NULL,
    of      CHAR(10)    NOT NULL COMMENT 'the operation that it belongs to',
    type    VARCHAR(64) NOT NULL,
    at      DATETIME(3) NOT NULL,
    content MEDIUMBLOB  NOT NULL,
    KEY (of),
    KEY (at)
);

-- +goose Down
DROP TABLE file;
