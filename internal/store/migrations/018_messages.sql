-- +goose Up
-- What gear has said over syslog.
CREATE TABLE IF NOT EXISTS gear_message (
    id     BIGINT       PRIMARY KEY AUTO_INCREMENT,
    device VARCHAR(63)  NOT NULL,
    site   VARCHAR(63)  NOT NULL,
    at     DATETIME(3)  NOT NULL COMMENT 'when it was heard',
    level  VARCHAR(10)  NOT NULL,
    app    VARCHAR(48)  NOT NULL,
    text   VARCHAR(500) NOT NULL,
    KEY (device, at),
    KEY (at)
);

-- +goose Down
DROP TABLE gear_message;
