-- +goose Up
-- When each way by which a device could be rescued was last tried without harm.
CREATE TABLE IF NOT EXISTS drill (
    device VARCHAR(63)   NOT NULL,
    means  VARCHAR(16)   NOT NULL,
    at     DATETIME(3)   NOT NULL,
    ok     BOOLEAN       NOT NULL,
    why    VARCHAR(1000) NOT NULL COMMENT 'it did not work',
    who    VARCHAR(64)   NOT NULL,
    PRIMARY KEY (device, means)
);
