-- +goose Up
-- How long what runs leave behind is kept: a project's own rules, and those of all others where project_id is 0.
CREATE TABLE keeping (
    project_id bigint PRIMARY KEY,
    rules      jsonb NOT NULL,
    changed_by text NOT NULL,
    changed_at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX artifacts_blob ON artifacts (blob);
CREATE INDEX caches_blob ON caches (blob);
CREATE INDEX caches_used ON caches (last_used_at);
CREATE INDEX handovers_blob ON handovers (blob);
CREATE INDEX attempts_log_blob ON attempts (log_blob) WHERE log_blob <> '';

-- +goose Down
DROP INDEX attempts_log_blob, handovers_blob, caches_used, caches_blob, artifacts_blob;
DROP TABLE keeping;
