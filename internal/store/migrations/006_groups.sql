-- +goose Up
-- Times in which something belongs to somebody who works on it. Ended ones stay.
CREATE TABLE IF NOT EXISTS work_window (
    id      BIGINT AUTO_INCREMENT PRIMARY KEY,
    site    VARCHAR(63)  NOT NULL,
    device  VARCHAR(63)  NOT NULL, -- empty: the whole site
    who     VARCHAR(64)  NOT NULL,
    why     VARCHAR(500) NOT NULL,
    from_at DATETIME(3)  NOT NULL,
    until_at DATETIME(3) NOT NULL,
    KEY (until_at)
);

-- Calendars in iCalendar form that say when devices are in use.
CREATE TABLE IF NOT EXISTS calendar (
    name   VARCHAR(63) PRIMARY KEY,
    text   MEDIUMTEXT  NOT NULL,
    set_at DATETIME(3) NOT NULL,
    set_by VARCHAR(64) NOT NULL
);

-- Several operations that were asked for together. The machine is kept whole in doc.
CREATE TABLE IF NOT EXISTS op_group (
    id       CHAR(10)    PRIMARY KEY,
    kind     VARCHAR(16) NOT NULL,
    state    VARCHAR(16) NOT NULL,
    who      VARCHAR(64) NOT NULL,
    asked_at DATETIME(3) NOT NULL,
    ended_at DATETIME(3) NULL,
    doc      MEDIUMTEXT  NOT NULL,
    KEY (state),
    KEY (asked_at)
);

ALTER TABLE operation ADD KEY IF NOT EXISTS site (site, asked_at);

-- +goose Down
DROP TABLE work_window, calendar, op_group;
