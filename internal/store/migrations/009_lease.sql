-- +goose Up
-- Which service acts, of several on one database. Every durable step of one has its
-- epoch in its condition.
CREATE TABLE IF NOT EXISTS lease (
    name     VARCHAR(63)  PRIMARY KEY,
    holder   VARCHAR(160) NOT NULL,
    epoch    BIGINT       NOT NULL,
    until_at DATETIME(3)  NOT NULL,
    renewals BIGINT       NOT NULL
);

-- Every table knows its site; empty is what belongs to no single one.
ALTER TABLE claim ADD COLUMN IF NOT EXISTS site VARCHAR(63) NOT NULL DEFAULT '';
ALTER TABLE op_group ADD COLUMN IF NOT EXISTS site VARCHAR(63) NOT NULL DEFAULT '';
ALTER TABLE host_key ADD COLUMN IF NOT EXISTS site VARCHAR(63) NOT NULL DEFAULT '';
ALTER TABLE rolled ADD COLUMN IF NOT EXISTS site VARCHAR(63) NOT NULL DEFAULT '';
ALTER TABLE journal_head ADD COLUMN IF NOT EXISTS site VARCHAR(63) NOT NULL DEFAULT '';
ALTER TABLE calendar ADD COLUMN IF NOT EXISTS site VARCHAR(63) NOT NULL DEFAULT '';
ALTER TABLE profile ADD COLUMN IF NOT EXISTS site VARCHAR(63) NOT NULL DEFAULT '';
ALTER TABLE secret ADD COLUMN IF NOT EXISTS site VARCHAR(63) NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE claim DROP COLUMN site;
ALTER TABLE op_group DROP COLUMN site;
ALTER TABLE host_key DROP COLUMN site;
ALTER TABLE rolled DROP COLUMN site;
ALTER TABLE journal_head DROP COLUMN site;
ALTER TABLE calendar DROP COLUMN site;
ALTER TABLE profile DROP COLUMN site;
ALTER TABLE secret DROP COLUMN site;
DROP TABLE lease;
