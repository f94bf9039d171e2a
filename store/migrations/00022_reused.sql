-- +goose Up
-- Why a step was reused, or was not; null of steps that say nothing of what they read.
ALTER TABLE steps ADD COLUMN reuse jsonb NOT NULL DEFAULT 'null';
-- Whether a run does all anew: '' no, fresh, or audit, which compares.
ALTER TABLE runs ADD COLUMN anew text NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE runs DROP COLUMN anew;
ALTER TABLE steps DROP COLUMN reuse;
