-- +goose Up
-- Changes of how gear is set up. Each is kept whole in doc.
CREATE TABLE IF NOT EXISTS setting (
    id       CHAR(10)    PRIMARY KEY,
    site     VARCHAR(63) NOT NULL,
    device   VARCHAR(63) NOT NULL,
    state    VARCHAR(16) NOT NULL,
    who      VARCHAR(64) NOT NULL,
    asked_at DATETIME(3) NOT NULL,
    ended_at DATETIME(3) NULL,
    doc      MEDIUMTEXT  NOT NULL,
    KEY (ended_at),
    KEY (asked_at)
);

-- +goose Down
DROP TABLE setting;
