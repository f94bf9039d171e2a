-- +goose Up
-- Places where a project's releases can go.
CREATE TABLE outlets (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    project_id bigint NOT NULL REFERENCES projects ON DELETE CASCADE,
    name       text NOT NULL,
    kind       text NOT NULL CHECK (kind IN ('folder')),
    settings   jsonb NOT NULL,
    set_by     text NOT NULL,
    set_at     timestamptz NOT NULL DEFAULT now(),
    UNIQUE (project_id, name)
);

-- Releases on their way to outlets. One at a time is on its way into a channel.
CREATE TABLE publications (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    release_id bigint NOT NULL REFERENCES releases ON DELETE CASCADE,
    outlet_id  bigint NOT NULL REFERENCES outlets ON DELETE CASCADE,
    channel    text NOT NULL,
    share      int NOT NULL CHECK (share BETWEEN 1 AND 100),   -- of a hundred people, as it is wanted
    state      text NOT NULL CHECK (state IN ('prepared', 'sending', 'processing', 'in-review', 'accepted',
               'shared', 'out', 'halted', 'refused', 'withdrawn')),
    out_to     int NOT NULL DEFAULT 0,           -- of a hundred people, as it is
    reasons    jsonb NOT NULL DEFAULT '[]',      -- why it is refused
    trouble    text NOT NULL DEFAULT '',         -- why it cannot go on just now
    wants      text NOT NULL DEFAULT ''          -- what a person wants of it
               CHECK (wants IN ('', 'share', 'halt', 'withdraw')),
    ref        text NOT NULL DEFAULT '',         -- what the outlet calls it
    sent       bigint NOT NULL DEFAULT 0,        -- bytes
    total      bigint NOT NULL,
    by         text NOT NULL DEFAULT '',         -- '' its run
    attempt_id bigint REFERENCES attempts ON DELETE SET NULL,  -- the job that has begun it
    step       int NOT NULL DEFAULT 0,
    begun_at   timestamptz NOT NULL DEFAULT now(),
    held_until timestamptz                       -- until when a server has it in hand
);
CREATE UNIQUE INDEX publications_way ON publications (outlet_id, channel)
    WHERE state IN ('prepared', 'sending', 'processing', 'in-review');
CREATE UNIQUE INDEX publications_step ON publications (attempt_id, step) WHERE attempt_id IS NOT NULL;
CREATE INDEX publications_release ON publications (release_id);
CREATE INDEX publications_held ON publications (held_until) WHERE held_until IS NOT NULL;

-- What became of them, told in the order in which it happened.
CREATE TABLE publication_steps (
    id             bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    publication_id bigint NOT NULL REFERENCES publications ON DELETE CASCADE,
    at             timestamptz NOT NULL DEFAULT now(),
    state          text NOT NULL,
    out_to         int NOT NULL,
    by             text NOT NULL DEFAULT '',
    note           text NOT NULL DEFAULT ''
);
CREATE INDEX publication_steps_of ON publication_steps (publication_id, id);

CREATE INDEX attempts_driven ON attempts (driven_until) WHERE driven_until IS NOT NULL;

-- Packages of an attempt about which people are asked once it has passed.
CREATE TABLE asked_packages (
    attempt_id bigint NOT NULL REFERENCES attempts ON DELETE CASCADE,
    package_id bigint NOT NULL REFERENCES packages ON DELETE CASCADE,
    ask        jsonb NOT NULL,
    PRIMARY KEY (attempt_id, package_id)
);

-- +goose Down
DROP TABLE asked_packages;
DROP INDEX attempts_driven;
DROP TABLE publication_steps, publications, outlets;
