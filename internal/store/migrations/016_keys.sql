-- +goose Up
-- The public keys with which people come in by SSH; of each its SHA-256 is enough.
CREATE TABLE IF NOT EXISTS account_key (
    account_id INT         NOT NULL,
    sha256     BINARY(32)  NOT NULL,
    type       VARCHAR(64) NOT NULL,
    name       VARCHAR(64) NOT NULL COMMENT 'what its owner calls it',
    added_at   DATETIME(3) NOT NULL,
    PRIMARY KEY (account_id, sha256),
    FOREIGN KEY (account_id) REFERENCES account (id) ON DELETE CASCADE
);

-- +goose Down
DROP TABLE account_key;
