-- +goose Up
-- What was wrong: one incident for one cause. Each is kept whole in doc.
CREATE TABLE IF NOT EXISTS incident (
    id        CHAR(10)    PRIMARY KEY,
    site      VARCHAR(63) NOT NULL,
    device    VARCHAR(63) NOT NULL,
    kind      VARCHAR(16) NOT NULL,
    opened_at DATETIME(3) NOT NULL,
    ended_at  DATETIME(3) NULL,
    doc       MEDIUMTEXT  NOT NULL,
    KEY (ended_at),
    KEY (opened_at),
    KEY (device, opened_at)
);

-- +goose Down
DROP TABLE incident;
