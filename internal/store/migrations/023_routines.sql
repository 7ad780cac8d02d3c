-- +goose Up
-- What is done without anybody at hand, and how far its clock and its condition were dealt with.
CREATE TABLE IF NOT EXISTS routine (
    name     VARCHAR(63) PRIMARY KEY,
    text     MEDIUMTEXT  NOT NULL,
    off      TINYINT     NOT NULL DEFAULT 0 COMMENT 'begun by nothing but people',
    set_at   DATETIME(3) NOT NULL,
    set_by   VARCHAR(64) NOT NULL,
    dealt_at DATETIME(3) NOT NULL COMMENT 'up to then its times were dealt with',
    held     TINYINT     NULL COMMENT 'whether its condition held when it was last acted upon'
);
-- Each time that one was carried out.
CREATE TABLE IF NOT EXISTS routine_run (
    id       VARCHAR(63) PRIMARY KEY,
    routine  VARCHAR(63) NOT NULL,
    state    VARCHAR(12) NOT NULL,
    began_at DATETIME(3) NOT NULL,
    ended_at DATETIME(3) NULL,
    doc      MEDIUMTEXT  NOT NULL,
    KEY (routine, began_at),
    KEY (began_at),
    KEY (ended_at)
);

-- +goose Down
DROP TABLE routine_run;
DROP TABLE routine;
