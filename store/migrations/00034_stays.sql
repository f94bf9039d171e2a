-- +goose Up
-- Workspaces that stay after their attempt has ended, for a look around.
CREATE TABLE stays (
    attempt_id bigint PRIMARY KEY REFERENCES attempts ON DELETE CASCADE,
    project_id bigint NOT NULL REFERENCES projects ON DELETE CASCADE,
    for_ms     bigint NOT NULL,               -- how long, from the attempt's end on
    asked_by   text NOT NULL,                 -- '' its pipeline
    asked_at   timestamptz NOT NULL DEFAULT now(),
    until      timestamptz,                   -- null while the attempt runs
    recipient  text NOT NULL DEFAULT '',      -- of the runner that has it; '' it has not said so
    seen_at    timestamptz,                   -- when that was last heard of
    ended_at   timestamptz,
    ended_why  text NOT NULL DEFAULT ''
);
CREATE INDEX stays_open ON stays (until) WHERE ended_at IS NULL;

-- Ways in that people have opened: a shell, or files that are taken out.
CREATE TABLE shells (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    attempt_id bigint NOT NULL REFERENCES stays ON DELETE CASCADE,
    kind       text NOT NULL CHECK (kind IN ('shell', 'files')),
    who        text NOT NULL,
    terminal   boolean NOT NULL,
    cols       int NOT NULL,
    rows       int NOT NULL,
    command    text NOT NULL DEFAULT '',      -- '' a shell that reads
    path       text NOT NULL DEFAULT '',      -- of what is taken out
    secrets    text[] NOT NULL DEFAULT '{}',
    granted_by text NOT NULL DEFAULT '',      -- who lets it have them
    asked_at   timestamptz NOT NULL DEFAULT now(),
    opened_at  timestamptz,
    ended_at   timestamptz,
    ended_why  text NOT NULL DEFAULT '',
    exit_code  int,
    printed    bigint NOT NULL DEFAULT 0      -- bytes
);
CREATE INDEX shells_attempt ON shells (attempt_id);
CREATE INDEX shells_open ON shells (id) WHERE ended_at IS NULL;

-- What was shown in a shell: lines of asciicast v2, in pieces.
CREATE TABLE shell_parts (
    shell_id bigint NOT NULL REFERENCES shells ON DELETE CASCADE,
    number   int NOT NULL,
    text     text NOT NULL,
    PRIMARY KEY (shell_id, number)
);

-- +goose Down
DROP TABLE shell_parts;
DROP TABLE shells;
DROP TABLE stays;
