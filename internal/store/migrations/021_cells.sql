-- +goose Up
-- Characters as screens draw them, that people have said.
CREATE TABLE IF NOT EXISTS `taught_cell` (
    width  TINYINT UNSIGNED NOT NULL COMMENT 'pixels',
    height TINYINT UNSIGNED NOT NULL COMMENT 'pixels',
    bits   VARBINARY(128)   NOT NULL COMMENT 'its rows, a bit for each pixel that is not coloured as the upper left one',
    ch     INT UNSIGNED     NOT NULL COMMENT 'in Unicode',
    set_at DATETIME(3)      NOT NULL,
    set_by VARCHAR(64)      NOT NULL,
    PRIMARY KEY (width, height, bits)
);

-- +goose Down
DROP TABLE `taught_cell`;
