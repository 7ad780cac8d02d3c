-- +goose Up
-- Host keys that were seen first, and count from then on.
CREATE TABLE IF NOT EXISTS host_key (
    address VARCHAR(255) PRIMARY KEY,
    sha256  CHAR(64) CHARACTER SET ascii NOT NULL,
    seen_at DATETIME(3) NOT NULL
);

-- Claims name endpoints too.
ALTER TABLE claim MODIFY outlet VARCHAR(160) NOT NULL;

-- +goose Down
DROP TABLE host_key;
