-- +goose Up
-- Wiring checks by switching. Each is kept whole in doc.
CREATE TABLE IF NOT EXISTS wiring_check (
    id       CHAR(10)    PRIMARY KEY,
    site     VARCHAR(63) NOT NULL,
    who      VARCHAR(64) NOT NULL,
    began_at DATETIME(3) NOT NULL,
    ended_at DATETIME(3) NULL,
    doc      MEDIUMTEXT  NOT NULL,
    KEY (site, began_at),
    KEY (ended_at)
);

-- +goose Down
DROP TABLE wiring_check;
