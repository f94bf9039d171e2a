-- +goose Up
-- The key by which the service signs what it states of packages. There is one; it is made when it is first needed.
CREATE TABLE service_keys (
    id         int PRIMARY KEY CHECK (id = 1),
    public     text NOT NULL,                           -- PEM
    ciphertext bytea NOT NULL,                          -- the key, age-encrypted
    sealed_to  text NOT NULL REFERENCES masters,
    made_at    timestamptz NOT NULL DEFAULT now()
);

-- +goose Down
DROP TABLE service_keys;
