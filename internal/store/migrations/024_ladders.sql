-- +goose Up
-- How devices that hang are helped. One that is not armed only says what it would do.
CREATE TABLE IF NOT EXISTS ladder (
    name     VARCHAR(63) PRIMARY KEY,
    text     MEDIUMTEXT  NOT NULL,
    set_at   DATETIME(3) NOT NULL,
    set_by   VARCHAR(64) NOT NULL,
    armed_at DATETIME(3) NULL,
    armed_by VARCHAR(64) NOT NULL DEFAULT '',
    reset_at DATETIME(3) NULL COMMENT 'when somebody has had it go on'
);
-- What ladders were let do: their limits are counted by that.
CREATE TABLE IF NOT EXISTS ladder_act (
    id     VARCHAR(63)  PRIMARY KEY,
    ladder VARCHAR(63)  NOT NULL,
    device VARCHAR(63)  NOT NULL,
    site   VARCHAR(63)  NOT NULL,
    at     DATETIME(3)  NOT NULL,
    climb  VARCHAR(63)  NOT NULL COMMENT 'the run that did it',
    feeds  VARCHAR(1000) NOT NULL COMMENT 'what feeds the device',
    KEY (at)
);
-- Devices at which a ladder is at its end, until a person says otherwise.
CREATE TABLE IF NOT EXISTS ladder_hold (
    ladder VARCHAR(63)   NOT NULL,
    device VARCHAR(63)   NOT NULL,
    at     DATETIME(3)   NOT NULL,
    why    VARCHAR(1000) NOT NULL,
    PRIMARY KEY (ladder, device)
);

-- +goose Down
DROP TABLE ladder_hold;
DROP TABLE ladder_act;
DROP TABLE ladder;
