-- +goose Up
-- The proof that a key followed the one before it, where it was rotated.
ALTER TABLE identity_revisions ADD COLUMN lineage bytea; -- none where it was not

-- +goose Down
ALTER TABLE identity_revisions DROP COLUMN lineage;
