-- +goose Up
ALTER TABLE runners
    ADD COLUMN instance text NOT NULL DEFAULT '',      -- which runner has the name: one folder on one machine
    ADD COLUMN version  text NOT NULL DEFAULT '',
    ADD COLUMN held     text NOT NULL DEFAULT '',      -- why it is handed no job; '' when it is
    ADD COLUMN held_by  text NOT NULL DEFAULT '',
    ADD COLUMN clock_ms bigint NOT NULL DEFAULT 0;     -- what its clock is behind the service's
ALTER TABLE attempts
    ADD COLUMN handed_back boolean NOT NULL DEFAULT false, -- its runner ended in order; it counts as no try
    ADD COLUMN clock_ms    bigint NOT NULL DEFAULT 0;      -- what the clock of the runner that has it is behind
ALTER TABLE tokens ADD COLUMN made_by text NOT NULL DEFAULT '';
UPDATE tokens t SET made_by = p.name FROM people p WHERE p.id = t.person_id;

-- The data folder with the blobs and the stream that these records speak of: there is one.
CREATE TABLE home (
    one   boolean PRIMARY KEY DEFAULT true CHECK (one),
    id    text NOT NULL,
    place text NOT NULL,
    since timestamptz NOT NULL DEFAULT now()
);

-- +goose Down
DROP TABLE home;
ALTER TABLE tokens DROP COLUMN made_by;
ALTER TABLE attempts DROP COLUMN handed_back, DROP COLUMN clock_ms;
ALTER TABLE runners DROP COLUMN instance, DROP COLUMN version, DROP COLUMN held, DROP COLUMN held_by,
    DROP COLUMN clock_ms;
