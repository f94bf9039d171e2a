-- +goose Up
-- What a step puts on its run's page, in Markdown.
ALTER TABLE steps ADD COLUMN note text NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE steps DROP COLUMN note;
