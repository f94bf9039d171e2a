-- +goose Up
-- Searches, by halves, for the first change with which a job fails. The jobs of each are tried in runs of their own.
CREATE TABLE bisections (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    project_id bigint NOT NULL REFERENCES projects ON DELETE CASCADE,
    run_id     bigint NOT NULL REFERENCES runs ON DELETE CASCADE, -- the one that failed
    job        text NOT NULL,
    print      bytea NOT NULL,            -- of the failure; empty when any will do
    good       bigint NOT NULL,           -- number of the last run that passed
    changes    jsonb NOT NULL,            -- commits since that one, in their order; the last is the run's
    asked_by   text NOT NULL,             -- '' its pipeline
    begun_at   timestamptz NOT NULL DEFAULT now(),
    ended_at   timestamptz,
    ended_why  text NOT NULL DEFAULT '',  -- '' it is known what can be
    UNIQUE (run_id, job)
);

CREATE TABLE bisection_tries (
    bisection_id bigint NOT NULL REFERENCES bisections ON DELETE CASCADE,
    position     int NOT NULL,            -- of the change
    run          bigint NOT NULL,         -- its number; 0 it could not be planned
    verdict      text NOT NULL,           -- '' it is not over
    why          text NOT NULL,
    tried_at     timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (bisection_id, position)
);

-- bisection is of which search a run is a try; 0 of none. bisects: its pipeline wants one when it breaks.
ALTER TABLE runs ADD COLUMN bisection bigint NOT NULL DEFAULT 0, ADD COLUMN bisects boolean NOT NULL DEFAULT false;

-- +goose Down
ALTER TABLE runs DROP COLUMN bisection, DROP COLUMN bisects;
DROP TABLE bisection_tries;
DROP TABLE bisections;
