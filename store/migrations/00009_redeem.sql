-- +goose Up
-- Codes by which a program signs in whose browser has been at the issuer: good once, and for a minute.
CREATE TABLE redeemable (
    hash      bytea PRIMARY KEY,
    person_id bigint NOT NULL REFERENCES people (id) ON DELETE CASCADE,
    challenge text NOT NULL,
    until     timestamptz NOT NULL
);

-- +goose Down
DROP TABLE redeemable;
