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

-- +goose Down
DROP TABLE failures;
