-- +goose Up
-- Roll-ups of readings, to five minutes and to one hour. A stretch is named by
-- its beginning. One partition a month; old ones are dropped whole.
CREATE TABLE IF NOT EXISTS rollup_5min (
    series_id INT      NOT NULL,
    at        DATETIME NOT NULL,
    least     FLOAT    NOT NULL,
    mean      FLOAT    NOT NULL,
    greatest  FLOAT    NOT NULL,
    count     SMALLINT UNSIGNED NOT NULL,
    known     SMALLINT UNSIGNED NOT NULL, -- s, for which something is known
    PRIMARY KEY (series_id, at)
)
PARTITION BY RANGE COLUMNS (at) (PARTITION pmax VALUES LESS THAN (MAXVALUE));

CREATE TABLE IF NOT EXISTS rollup_1h (
    series_id INT      NOT NULL,
    at        DATETIME NOT NULL,
    least     FLOAT    NOT NULL,
    mean      FLOAT    NOT NULL,
    greatest  FLOAT    NOT NULL,
    count     SMALLINT UNSIGNED NOT NULL,
    known     SMALLINT UNSIGNED NOT NULL, -- s, for which something is known
    PRIMARY KEY (series_id, at)
)
PARTITION BY RANGE COLUMNS (at) (PARTITION pmax VALUES LESS THAN (MAXVALUE));

-- How far each roll-up has come: everything before is in it.
CREATE TABLE IF NOT EXISTS rolled (
    name  VARCHAR(16) PRIMARY KEY,
    until_at DATETIME NOT NULL
);

-- The times that a UPS lived on its battery.
CREATE TABLE IF NOT EXISTS discharge (
    id       INT AUTO_INCREMENT PRIMARY KEY,
    site     VARCHAR(63) NOT NULL,
    device   VARCHAR(63) NOT NULL,
    began_at DATETIME(3) NOT NULL,
    ended_at DATETIME(3) NOT NULL,
    watts    DOUBLE      NOT NULL,
    from_pc  DOUBLE      NOT NULL,
    to_pc    DOUBLE      NOT NULL,
    UNIQUE KEY (device, began_at)
);

-- Profiles that people have added.
CREATE TABLE IF NOT EXISTS profile (
    name   VARCHAR(63) PRIMARY KEY,
    text   MEDIUMTEXT  NOT NULL,
    set_at DATETIME(3) NOT NULL,
    set_by VARCHAR(64) NOT NULL
);

-- +goose Down
DROP TABLE rollup_5min, rollup_1h, rolled, discharge, profile;
