-- +goose Up
-- How long machines were at work on a day (UTC), by each of what usage is told by: a month is summed up from few rows.
-- The last days are summed up anew, again and again; all of them once, soon after this.
DROP TABLE used_days;
CREATE TABLE used_days (
    project_id bigint NOT NULL REFERENCES projects ON DELETE CASCADE,
    by         text NOT NULL,   -- project, pipeline, job, machine, person; or waste
    day        date NOT NULL,
    name       text NOT NULL,   -- of the pipeline, and so on; of a project none
    took_ms    bigint NOT NULL,
    waited_ms  bigint NOT NULL,
    runs       bigint NOT NULL, -- whose first day this is
    PRIMARY KEY (project_id, by, day, name)
);
CREATE INDEX runs_failed ON runs (queued_at) WHERE state = 'failed';

-- +goose Down
DROP INDEX runs_failed;
DROP TABLE used_days;
CREATE TABLE used_days (
    project_id bigint NOT NULL REFERENCES projects ON DELETE CASCADE,
    day        date NOT NULL,
    took_ms    bigint NOT NULL,
    PRIMARY KEY (project_id, day)
);
