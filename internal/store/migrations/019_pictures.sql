-- +goose Up
-- What watched screens showed before their devices fell silent.
CREATE TABLE IF NOT EXISTS picture (
    device  VARCHAR(63)  NOT NULL,
    at      DATETIME(3)  NOT NULL,
    site    VARCHAR(63)  NOT NULL,
    why     VARCHAR(100) NOT NULL COMMENT 'it is kept',
    content MEDIUMBLOB   NOT NULL COMMENT 'a PNG',
    PRIMARY KEY (device, at),
    KEY (site, at),
    KEY (at)
);
-- What was recognised may have stood on a screen.
ALTER TABLE line_event ADD COLUMN IF NOT EXISTS screen BOOLEAN NOT NULL DEFAULT FALSE;

-- +goose Down
ALTER TABLE line_event DROP COLUMN screen;
DROP TABLE picture;
