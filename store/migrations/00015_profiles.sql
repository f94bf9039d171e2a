-- +goose Up
-- What the value of a secret says of itself when it is a provisioning profile: its app, and until when.
ALTER TABLE secret_revisions ADD COLUMN profile jsonb NOT NULL DEFAULT '{}';

-- +goose Down
ALTER TABLE secret_revisions DROP COLUMN profile;
