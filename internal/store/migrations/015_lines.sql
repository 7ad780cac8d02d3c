-- +goose Up
-- What serial lines have said, in parts, and what of it was recognised.
CREATE TABLE IF NOT EXISTS line_part (
    device  VARCHAR(63) NOT NULL,
    began   DATETIME(3) NOT NULL,
    ended   DATETIME(3) NOT NULL,
    site    VARCHAR(63) NOT NULL,
    content MEDIUMBLOB  NOT NULL COMMENT 'compressed: core/serial, Part.Encode',
    PRIMARY KEY (device, began),
    KEY (ended)
);
CREATE TABLE IF NOT EXISTS line_event (
    id     BIGINT       PRIMARY KEY AUTO_INCREMENT,
    device VARCHAR(63)  NOT NULL,
    site   VARCHAR(63)  NOT NULL,
    at     DATETIME(3)  NOT NULL,
    name   VARCHAR(60)  NOT NULL COMMENT 'of the pattern',
    level  VARCHAR(10)  NOT NULL,
    text   VARCHAR(250) NOT NULL COMMENT 'the line of text',
    KEY (device, at),
    KEY (at)
);

-- +goose Down
DROP TABLE line_event;
DROP TABLE line_part;
