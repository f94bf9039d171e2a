-- +goose Up
-- What failed, so that the same failure is known again over runs.
CREATE TABLE failures (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    project_id bigint NOT NULL REFERENCES projects ON DELETE CASCADE,
    print      bytea NOT NULL,                  -- of where, why and what was said
    run_id     bigint NOT NULL REFERENCES runs ON DELETE CASCADE,
    attempt_id bigint NOT NULL UNIQUE REFERENCES attempts ON DELETE CASCADE,
    job        text NOT NULL,
    step       text NOT NULL,
    cause      text NOT NULL,                   -- its name; '' when it is not known
    title      text NOT NULL,
    means      text NOT NULL,
    todo       text NOT NULL,
    own        boolean NOT NULL,                -- the project's own cause
    said       text NOT NULL,                   -- the line by which it is known
    failed_at  timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX failures_print ON failures (project_id, print, id DESC);
CREATE INDEX failures_run ON failures (run_id);

-- What ended a failure is the next run of its branch that passed.
CREATE INDEX runs_passed ON runs (project_id, pipeline, branch, number) WHERE state = 'passed';

-- Each failure once, so that no list reads all of them.
CREATE TABLE known_failures (
    project_id bigint NOT NULL REFERENCES projects ON DELETE CASCADE,
    print      bytea NOT NULL,
    times      int NOT NULL,                    -- runs
    cause      text NOT NULL,
    title      text NOT NULL,
    job        text NOT NULL,
    step       text NOT NULL,
    said       text NOT NULL,
    pipeline   text NOT NULL,
    first_run  bigint NOT NULL,                 -- numbers of runs
    first_at   timestamptz NOT NULL,
    last_run   bigint NOT NULL,
    last_at    timestamptz NOT NULL,
    PRIMARY KEY (project_id, print)
);
CREATE INDEX known_failures_last ON known_failures (project_id, last_at DESC);

-- +goose Down
DROP INDEX runs_passed;
DROP TABLE known_failures;
DROP TABLE failures;
