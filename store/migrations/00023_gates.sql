-- +goose Up
-- Questions to people, each of a job that waits for their answer. One that is over stays, and is never asked again:
-- a run that is started again asks anew.
CREATE TABLE gates (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    project_id bigint NOT NULL REFERENCES projects ON DELETE CASCADE,
    run_id     bigint NOT NULL REFERENCES runs ON DELETE CASCADE,
    job_id     bigint NOT NULL REFERENCES jobs ON DELETE CASCADE,
    ask        jsonb NOT NULL,      -- who may answer, and all else that holds; in the question, variables are filled in
    asked_at   timestamptz NOT NULL,
    until      timestamptz NOT NULL,
    outcome    text NOT NULL DEFAULT '' CHECK (outcome IN ('', 'yes', 'no', 'unanswered', 'cancelled')),
    ended_at   timestamptz
);
CREATE UNIQUE INDEX gates_open ON gates (job_id) WHERE outcome = '';
CREATE INDEX gates_run ON gates (run_id);
CREATE INDEX gates_project ON gates (project_id, id);

CREATE TABLE answers (
    gate_id   bigint NOT NULL REFERENCES gates ON DELETE CASCADE,
    person_id bigint NOT NULL REFERENCES people ON DELETE CASCADE,
    yes       boolean NOT NULL,
    comment   text NOT NULL DEFAULT '',
    at        timestamptz NOT NULL,
    PRIMARY KEY (gate_id, person_id)
);

-- Since when a run waits for people: its limit stands still meanwhile.
ALTER TABLE runs ADD COLUMN waiting_since timestamptz;

-- +goose Down
ALTER TABLE runs DROP COLUMN waiting_since;
DROP TABLE answers, gates;
