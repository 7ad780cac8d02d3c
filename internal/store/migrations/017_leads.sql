-- +goose Up
-- What was found of the leads of a device at the newest look.
CREATE TABLE IF NOT EXISTS lead_check (
    device VARCHAR(63) PRIMARY KEY,
    doc    TEXT        NOT NULL COMMENT 'core/wiring, Leads'
);

-- +goose Down
DROP TABLE lead_check;
