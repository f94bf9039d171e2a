-- +goose Up
-- Where people get mail; '' nowhere.
ALTER TABLE people ADD COLUMN mail text NOT NULL DEFAULT '';

-- What is sent by mail. key says what it is about and to whom, so that nobody gets the same thing twice.
CREATE TABLE letters (
    id        bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    key       text NOT NULL UNIQUE,
    recipient text NOT NULL,
    subject   text NOT NULL,
    plain     text NOT NULL,
    html      text NOT NULL,
    state     text NOT NULL DEFAULT 'queued' CHECK (state IN ('queued', 'sent', 'refused')),
    trouble   text NOT NULL DEFAULT '',   -- what the mail server said last
    queued_at timestamptz NOT NULL DEFAULT now(),
    ended_at  timestamptz
);

-- +goose Down
DROP TABLE letters;
ALTER TABLE people DROP COLUMN mail;
