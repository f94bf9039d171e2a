-- +goose Up
ALTER TABLE runners ADD COLUMN lacks text[] NOT NULL DEFAULT '{}'; -- tools it has looked for in vain

-- +goose Down
ALTER TABLE runners DROP COLUMN lacks;
