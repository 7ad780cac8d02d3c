-- +goose Up
-- What is pressed and waited for at screens, in a row, by name.
CREATE TABLE IF NOT EXISTS `sequence` (
    name   VARCHAR(63) PRIMARY KEY,
    text   MEDIUMTEXT  NOT NULL,
    layout VARCHAR(10) NOT NULL COMMENT 'of the keyboard that it is typed on',
    set_at DATETIME(3) NOT NULL,
    set_by VARCHAR(64) NOT NULL
);

-- +goose Down
DROP TABLE `sequence`;
