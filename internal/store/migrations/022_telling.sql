-- +goose Up
-- How people are reached: servers, pages and lines that messages go out by.
CREATE TABLE IF NOT EXISTS channel (
    name   VARCHAR(63) PRIMARY KEY,
    kind   VARCHAR(20) NOT NULL,
    doc    MEDIUMTEXT  NOT NULL COMMENT 'its settings, in JSON; no secret is in there',
    set_at DATETIME(3) NOT NULL,
    set_by VARCHAR(64) NOT NULL
);
-- Who is told of what, each version of it.
CREATE TABLE IF NOT EXISTS telling (
    id   BIGINT AUTO_INCREMENT PRIMARY KEY,
    at   DATETIME(3) NOT NULL,
    who  VARCHAR(64) NOT NULL,
    text MEDIUMTEXT  NOT NULL
);
-- What people are to be told, and were.
CREATE TABLE IF NOT EXISTS note (
    id          VARCHAR(190) PRIMARY KEY COMMENT 'names what it says and to whom',
    incident_id VARCHAR(63)  NOT NULL,
    person      VARCHAR(63)  NOT NULL,
    what        VARCHAR(10)  NOT NULL,
    rule        VARCHAR(63)  NOT NULL,
    step        INT          NOT NULL,
    state       VARCHAR(10)  NOT NULL,
    noted_at    DATETIME(3)  NOT NULL,
    due_at      DATETIME(3)  NOT NULL COMMENT 'not before that it is sent, or sent again',
    held        VARCHAR(200) NOT NULL DEFAULT '' COMMENT 'why it was not due at once',
    tries       INT          NOT NULL DEFAULT 0,
    claimed_at  DATETIME(3)  NULL COMMENT 'since then it is being sent',
    sent_at     DATETIME(3)  NULL,
    kind        VARCHAR(20)  NOT NULL DEFAULT '' COMMENT 'of the incident, as it was told',
    size        INT          NOT NULL DEFAULT 0 COMMENT 'how many devices were told of',
    channel     VARCHAR(63)  NOT NULL DEFAULT '' COMMENT 'by which it went, or was tried last',
    says        VARCHAR(1000) NOT NULL DEFAULT '' COMMENT 'what its channel answered, or why it failed',
    subject     VARCHAR(400) NOT NULL DEFAULT '',
    text        MEDIUMTEXT   NULL,
    code        VARCHAR(8)   NOT NULL DEFAULT '' COMMENT 'by which it is answered',
    KEY (state, due_at),
    KEY (incident_id),
    KEY (code),
    KEY (noted_at)
);

-- +goose Down
DROP TABLE note;
DROP TABLE telling;
DROP TABLE channel;
