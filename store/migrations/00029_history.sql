-- +goose Up
-- What has a time, each once: a job, a step of it ('' is the job), a cache it restores; and on which kind of machine.
CREATE TABLE places (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    project_id bigint NOT NULL REFERENCES projects ON DELETE CASCADE,
    pipeline   text NOT NULL,
    job        text NOT NULL,
    kind       text NOT NULL CHECK (kind IN ('job', 'step', 'cache')),
    name       text NOT NULL,
    machine    text NOT NULL,
    UNIQUE (project_id, pipeline, job, kind, name, machine)
);

-- How long it took, run by run; a row is about a hundred bytes with its index, and stays when logs are given up.
CREATE TABLE spans (
    place_id    bigint NOT NULL REFERENCES places ON DELETE CASCADE,
    run         bigint NOT NULL,                -- its number
    attempt     int NOT NULL,
    ended_at    timestamptz NOT NULL,
    took_ms     bigint NOT NULL,
    waited_ms   bigint NOT NULL DEFAULT 0,      -- for a machine, before that
    prepared_ms bigint NOT NULL DEFAULT 0,      -- of what it took: checkout and caches
    state       text NOT NULL                   -- of a cache: hit or missed
);
CREATE INDEX spans_of_place ON spans (place_id, run DESC);
CREATE INDEX spans_ended ON spans (place_id, ended_at) INCLUDE (took_ms, waited_ms, run);

-- What old runs have is taken over.
CREATE TEMPORARY TABLE ended ON COMMIT DROP AS
    SELECT a.id, a.project_id, r.pipeline, j.name AS job, r.number AS run, a.number AS attempt, a.state, a.finished_at,
        a.claimed_at, a.prepared_at, greatest(a.queued_at, coalesce(a.not_before, a.queued_at)) AS ready_at,
        concat_ws(' ', nullif(m.platform, ''), nullif(array_to_string(a.labels, ' '), '')) AS machine
    FROM attempts a JOIN runs r ON r.id = a.run_id JOIN jobs j ON j.id = a.job_id
        LEFT JOIN runners m ON m.name = a.runner
    WHERE a.claimed_at IS NOT NULL AND a.finished_at IS NOT NULL;
CREATE TEMPORARY TABLE took ON COMMIT DROP AS
    SELECT project_id, pipeline, job, 'job' AS kind, '' AS name, machine, run, attempt, finished_at AS ended_at,
        finished_at - claimed_at AS took, claimed_at - ready_at AS waited,
        coalesce(prepared_at, finished_at) - claimed_at AS prepared, state
    FROM ended
    UNION ALL
    SELECT e.project_id, e.pipeline, e.job, 'step', s.name, e.machine, e.run, e.attempt, s.finished_at,
        s.finished_at - s.started_at, interval '0', interval '0', s.state
    FROM ended e JOIN steps s ON s.attempt_id = e.id WHERE s.started_at IS NOT NULL AND s.finished_at IS NOT NULL
    UNION ALL
    SELECT e.project_id, e.pipeline, e.job, 'cache', u.name, e.machine, e.run, e.attempt, e.finished_at,
        u.took_ms * interval '1 ms', interval '0', interval '0', CASE WHEN u.hit THEN 'hit' ELSE 'missed' END
    FROM ended e JOIN cache_uses u ON u.attempt_id = e.id;
INSERT INTO places (project_id, pipeline, job, kind, name, machine)
    SELECT DISTINCT project_id, pipeline, job, kind, name, machine FROM took;
INSERT INTO spans (place_id, run, attempt, ended_at, took_ms, waited_ms, prepared_ms, state)
    SELECT p.id, t.run, t.attempt, max(t.ended_at),
        sum(greatest(0, extract(epoch FROM t.took) * 1000))::bigint,
        sum(greatest(0, extract(epoch FROM t.waited) * 1000))::bigint,
        sum(greatest(0, extract(epoch FROM t.prepared) * 1000))::bigint, min(t.state)
    FROM took t JOIN places p USING (project_id, pipeline, job, kind, name, machine)
    GROUP BY p.id, t.run, t.attempt;

-- +goose Down
DROP TABLE spans;
DROP TABLE places;
