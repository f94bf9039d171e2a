-- +goose Up
ALTER TABLE projects
    ADD COLUMN held    text NOT NULL DEFAULT '',   -- why no job of it is handed out
    ADD COLUMN held_by text NOT NULL DEFAULT '',
    ADD COLUMN at_once int  NOT NULL DEFAULT 0;    -- jobs at work at once; 0 any

ALTER TABLE runs
    ADD COLUMN target      text NOT NULL DEFAULT '',       -- of a proposal
    ADD COLUMN proposal    text NOT NULL DEFAULT '',
    ADD COLUMN outside     boolean NOT NULL DEFAULT false, -- a proposal that is not trusted
    ADD COLUMN schedule    text NOT NULL DEFAULT '',
    ADD COLUMN caused_by   bigint NOT NULL DEFAULT 0,      -- number of the run whose end or repetition this is
    ADD COLUMN depth       int NOT NULL DEFAULT 0,         -- how many runs led here, one starting the next
    ADD COLUMN inputs      jsonb NOT NULL DEFAULT '{}',
    ADD COLUMN facts       jsonb NOT NULL DEFAULT '{}',    -- what conditions may ask
    ADD COLUMN limit_ms    bigint NOT NULL DEFAULT 0,
    ADD COLUMN deadline    timestamptz,
    ADD COLUMN reopened_at timestamptz,                    -- when failed jobs were started again
    ADD COLUMN reopenings  int NOT NULL DEFAULT 0,
    ADD COLUMN run_group   text NOT NULL DEFAULT '',
    ADD COLUMN begun       boolean NOT NULL DEFAULT false, -- a job has been handed out since it was (re)opened
    ADD COLUMN priority    int NOT NULL DEFAULT 0,
    ADD COLUMN at_once     int NOT NULL DEFAULT 0,         -- runs of the pipeline at work at once; 0 any
    ADD COLUMN followed    boolean NOT NULL DEFAULT false, -- another pipeline starts when this run ends
    ADD COLUMN secrets     jsonb NOT NULL DEFAULT '{}';    -- revisions handed out, by name
CREATE INDEX runs_open ON runs (id) WHERE state IN ('queued', 'running', 'waiting');
CREATE INDEX runs_deadline ON runs (deadline) WHERE state = 'running';
CREATE INDEX runs_of_branch ON runs (project_id, pipeline, branch, number DESC);

ALTER TABLE attempts
    ADD COLUMN project_id  bigint REFERENCES projects ON DELETE CASCADE,
    ADD COLUMN lost        boolean NOT NULL DEFAULT false, -- its runner went silent
    ADD COLUMN tools       jsonb NOT NULL DEFAULT '{}',    -- wanted versions
    ADD COLUMN not_before  timestamptz,
    ADD COLUMN stop_state  text NOT NULL DEFAULT 'cancelled',
    ADD COLUMN tools_found jsonb NOT NULL DEFAULT '{}';    -- versions of the runner that has it
UPDATE runs SET begun = started_at IS NOT NULL;
UPDATE attempts a SET project_id = r.project_id FROM runs r WHERE r.id = a.run_id;
ALTER TABLE attempts ALTER COLUMN project_id SET NOT NULL;
CREATE INDEX attempts_working ON attempts (project_id) WHERE state = 'running';

ALTER TABLE runners ADD COLUMN tools jsonb NOT NULL DEFAULT '{}';

-- The last commit of a branch that a pipeline has seen, built or not.
CREATE TABLE heads (
    project_id bigint NOT NULL REFERENCES projects ON DELETE CASCADE,
    pipeline   text NOT NULL,
    branch     text NOT NULL,
    commit_id  text NOT NULL,
    PRIMARY KEY (project_id, pipeline, branch)
);

-- The schedules of the pipelines on each project's main branch.
CREATE TABLE schedules (
    project_id bigint NOT NULL REFERENCES projects ON DELETE CASCADE,
    pipeline   text NOT NULL,
    name       text NOT NULL,
    cron       text NOT NULL,
    zone       text NOT NULL,
    branch     text NOT NULL,
    next_at    timestamptz NOT NULL,
    last_run   bigint NOT NULL DEFAULT 0,
    note       text NOT NULL DEFAULT '',
    PRIMARY KEY (project_id, pipeline, name)
);
CREATE INDEX schedules_due ON schedules (next_at);

-- Commits the service has made itself; a push of one starts nothing.
CREATE TABLE own_commits (
    project_id bigint NOT NULL REFERENCES projects ON DELETE CASCADE,
    commit_id  text NOT NULL,
    PRIMARY KEY (project_id, commit_id)
);

-- Files a job hands to later jobs of its run.
CREATE TABLE handovers (
    attempt_id bigint NOT NULL REFERENCES attempts ON DELETE CASCADE,
    name       text NOT NULL,
    blob       text NOT NULL,
    size       bigint NOT NULL,
    PRIMARY KEY (attempt_id, name)
);

-- +goose Down
DROP TABLE handovers, own_commits, schedules, heads;
ALTER TABLE runners DROP COLUMN tools;
ALTER TABLE attempts DROP COLUMN project_id, DROP COLUMN lost, DROP COLUMN tools, DROP COLUMN not_before,
    DROP COLUMN stop_state, DROP COLUMN tools_found;
ALTER TABLE runs DROP COLUMN target, DROP COLUMN proposal, DROP COLUMN outside, DROP COLUMN schedule,
    DROP COLUMN caused_by,
    DROP COLUMN depth, DROP COLUMN inputs, DROP COLUMN facts, DROP COLUMN limit_ms, DROP COLUMN deadline,
    DROP COLUMN reopened_at, DROP COLUMN reopenings, DROP COLUMN run_group, DROP COLUMN begun, DROP COLUMN priority,
    DROP COLUMN at_once, DROP COLUMN followed, DROP COLUMN secrets;
ALTER TABLE projects DROP COLUMN held, DROP COLUMN held_by, DROP COLUMN at_once;
