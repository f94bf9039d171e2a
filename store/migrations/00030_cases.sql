-- +goose Up
-- Test cases, each once, with how it stands: what lists are ordered by is kept here, so that none reads all results.
CREATE TABLE cases (
    id            bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    project_id    bigint NOT NULL REFERENCES projects ON DELETE CASCADE,
    print         bytea NOT NULL,               -- of suite and name
    suite         text NOT NULL,
    name          text NOT NULL,
    pipeline      text NOT NULL,                -- where it ran last
    job           text NOT NULL,
    first_run     bigint NOT NULL,              -- numbers of runs
    first_at      timestamptz NOT NULL,
    last_run      bigint NOT NULL,
    last_at       timestamptz NOT NULL,
    last_result   text NOT NULL,
    last_ms       bigint NOT NULL,
    usual_ms      bigint NOT NULL DEFAULT -1,   -- of those passed, later ones weigh more; -1: it has never passed
    runs          bigint NOT NULL DEFAULT 0,
    failures      bigint NOT NULL DEFAULT 0,
    failing_since bigint,                       -- the run that began it; null: it does not fail
    flaky         bigint NOT NULL DEFAULT 0,    -- contents of which it passed and failed
    flaky_run     bigint NOT NULL DEFAULT 0,    -- the last run that showed it
    flaky_commit  text NOT NULL DEFAULT '',
    UNIQUE (project_id, print)
);
CREATE INDEX cases_failing ON cases (project_id, failing_since) WHERE failing_since IS NOT NULL;
CREATE INDEX cases_flaky ON cases (project_id, flaky_run) WHERE flaky > 0;
CREATE INDEX cases_slow ON cases (project_id, last_ms);
CREATE INDEX cases_first ON cases (project_id, first_run);
CREATE INDEX cases_last ON cases (project_id, pipeline, job, last_run);

CREATE TABLE case_results (
    case_id bigint NOT NULL REFERENCES cases ON DELETE CASCADE,
    run     bigint NOT NULL,
    job_id  bigint NOT NULL REFERENCES jobs ON DELETE CASCADE,
    attempt int NOT NULL,
    result  text NOT NULL,                      -- passed, failed, skipped; both: passed and failed in one report
    took_ms bigint NOT NULL,
    message text NOT NULL DEFAULT '',
    PRIMARY KEY (case_id, run, job_id, attempt)
);
CREATE INDEX case_results_job ON case_results (job_id);

-- Cases whose failure fails nothing for a while.
CREATE TABLE asides (
    case_id    bigint PRIMARY KEY REFERENCES cases ON DELETE CASCADE,
    reason     text NOT NULL,
    until      timestamptz NOT NULL,
    aside_by   text NOT NULL,
    aside_at   timestamptz NOT NULL DEFAULT now()
);

-- +goose Down
DROP TABLE asides;
DROP TABLE case_results;
DROP TABLE cases;
