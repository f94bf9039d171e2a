-- +goose Up
-- Keys that are in a token: its label, and under ciphertext where in it and by which PIN.
ALTER TABLE identity_revisions ADD COLUMN token text NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE identity_revisions DROP COLUMN token;
