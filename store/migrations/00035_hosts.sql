-- +goose Up
-- What a runner's machine is like just now: load, memory, disk.
ALTER TABLE runners ADD COLUMN host jsonb NOT NULL DEFAULT '{}';
CREATE INDEX attempts_of_runner ON attempts (runner, claimed_at DESC) WHERE claimed_at IS NOT NULL;

-- +goose Down
DROP INDEX attempts_of_runner;
ALTER TABLE runners DROP COLUMN host;
