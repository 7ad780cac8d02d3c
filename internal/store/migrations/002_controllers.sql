-- +goose Up
-- What controllers say that is no number: the newest of each kind, as a document.
CREATE TABLE IF NOT EXISTS document (
    device VARCHAR(63) NOT NULL,
    kind   VARCHAR(16) NOT NULL,
    site   VARCHAR(63) NOT NULL,
    at     DATETIME(3) NOT NULL,
    text   MEDIUMTEXT  NOT NULL,
    PRIMARY KEY (device, kind)
);

-- Sensors have longer units than watts.
ALTER TABLE series MODIFY unit VARCHAR(32) NOT NULL;

-- +goose Down
DROP TABLE document;
