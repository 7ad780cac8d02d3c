-- +goose Up
CREATE TABLE IF NOT EXISTS account (
    id            INT AUTO_INCREMENT PRIMARY KEY,
    name          VARCHAR(64)  NOT NULL UNIQUE,
    role          VARCHAR(16)  NOT NULL,
    password_hash VARCHAR(200) NOT NULL,
    created_at    DATETIME(3)  NOT NULL
);

-- Log-ins of both kinds. Only a hash of the token is kept.
CREATE TABLE IF NOT EXISTS session (
    token_hash BINARY(32)  PRIMARY KEY,
    account_id INT         NOT NULL,
    kind       VARCHAR(8)  NOT NULL, -- console or client
    name       VARCHAR(64) NOT NULL,
    created_at DATETIME(3) NOT NULL,
    expires_at DATETIME(3) NOT NULL,
    FOREIGN KEY (account_id) REFERENCES account (id) ON DELETE CASCADE
);

-- The estate is a document; every version of it is kept.
CREATE TABLE IF NOT EXISTS estate_version (
    id   INT AUTO_INCREMENT PRIMARY KEY,
    at   DATETIME(3) NOT NULL,
    who  VARCHAR(64) NOT NULL,
    text MEDIUMTEXT  NOT NULL
);

CREATE TABLE IF NOT EXISTS secret (
    name   VARCHAR(64)    PRIMARY KEY,
    kind   VARCHAR(16)    NOT NULL,
    sealed VARBINARY(4096) NOT NULL,
    set_at DATETIME(3)    NOT NULL,
    set_by VARCHAR(64)    NOT NULL
);

-- The machine of an operation is kept whole in doc; the columns are for finding it.
CREATE TABLE IF NOT EXISTS operation (
    id       CHAR(10)    PRIMARY KEY,
    site     VARCHAR(63) NOT NULL,
    device   VARCHAR(63) NOT NULL,
    kind     VARCHAR(16) NOT NULL,
    state    VARCHAR(16) NOT NULL,
    who      VARCHAR(64) NOT NULL,
    asked_at DATETIME(3) NOT NULL,
    ended_at DATETIME(3) NULL,
    took_ms  INT         NULL, -- from power to the first answer
    doc      MEDIUMTEXT  NOT NULL,
    KEY (device, asked_at),
    KEY (state),
    KEY (asked_at)
);

-- One running operation to an outlet, enforced where it cannot be raced.
CREATE TABLE IF NOT EXISTS claim (
    outlet       VARCHAR(80) PRIMARY KEY,
    operation_id CHAR(10)    NOT NULL,
    KEY (operation_id)
);

-- Devices that somebody has switched off and wants off.
CREATE TABLE IF NOT EXISTS parked (
    device VARCHAR(63)  PRIMARY KEY,
    site   VARCHAR(63)  NOT NULL,
    who    VARCHAR(64)  NOT NULL,
    why    VARCHAR(500) NOT NULL,
    since  DATETIME(3)  NOT NULL
);

-- Since when each device has been how it is, for after a restart.
CREATE TABLE IF NOT EXISTS verdict (
    device VARCHAR(63) PRIMARY KEY,
    site   VARCHAR(63) NOT NULL,
    state  VARCHAR(16) NOT NULL,
    since  DATETIME(3) NOT NULL
);

CREATE TABLE IF NOT EXISTS series (
    id     INT AUTO_INCREMENT PRIMARY KEY,
    site   VARCHAR(63) NOT NULL,
    device VARCHAR(63) NOT NULL,
    name   VARCHAR(63) NOT NULL,
    unit   VARCHAR(8)  NOT NULL,
    UNIQUE KEY (device, name)
);

-- One partition a day; old ones are dropped whole.
CREATE TABLE IF NOT EXISTS reading (
    series_id INT         NOT NULL,
    at        DATETIME(3) NOT NULL,
    value     DOUBLE      NOT NULL,
    PRIMARY KEY (series_id, at)
)
PARTITION BY RANGE COLUMNS (at) (PARTITION pmax VALUES LESS THAN (MAXVALUE));

-- Only ever added to.
CREATE TABLE IF NOT EXISTS journal (
    id           BIGINT AUTO_INCREMENT PRIMARY KEY,
    at           DATETIME(3)  NOT NULL,
    recorded_at  DATETIME(3)  NOT NULL,
    site         VARCHAR(63)  NOT NULL,
    device       VARCHAR(63)  NOT NULL,
    who          VARCHAR(64)  NOT NULL,
    kind         VARCHAR(32)  NOT NULL,
    text         TEXT         NOT NULL,
    why          VARCHAR(500) NOT NULL,
    result       VARCHAR(16)  NOT NULL,
    operation_id VARCHAR(10)  NOT NULL,
    before_w     DOUBLE       NULL,
    after_w      DOUBLE       NULL,
    KEY (device, id),
    KEY (operation_id)
);

-- +goose Down
DROP TABLE journal, reading, series, verdict, parked, claim, operation, secret, estate_version, session, account;
