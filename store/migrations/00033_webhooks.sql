-- +goose Up
-- Whom programs of others are told by of what happens.
CREATE TABLE webhooks (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    project_id bigint NOT NULL REFERENCES projects ON DELETE CASCADE,
    name       text NOT NULL,
    url        text NOT NULL,
    kinds      text[] NOT NULL,
    inside     boolean NOT NULL,              -- an administrator has allowed an address inside
    ciphertext bytea NOT NULL,                -- age-encrypted: by what it is signed
    sealed_to  text NOT NULL REFERENCES masters,
    paused     text NOT NULL DEFAULT '',      -- why nothing is sent; '' it is
    set_by     text NOT NULL,
    set_at     timestamptz NOT NULL DEFAULT now(),
    UNIQUE (project_id, name)
);
CREATE INDEX webhooks_sealed ON webhooks (sealed_to);

-- What is sent to them. key says what it is about: the same is written once.
CREATE TABLE messages (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    webhook_id bigint NOT NULL REFERENCES webhooks ON DELETE CASCADE,
    key        text NOT NULL,
    kind       text NOT NULL,
    body       text NOT NULL,
    state      text NOT NULL DEFAULT 'queued' CHECK (state IN ('queued', 'sent', 'refused')),
    tries      int NOT NULL DEFAULT 0,
    status     int NOT NULL DEFAULT 0,        -- of the last answer; 0 none came
    answer     text NOT NULL DEFAULT '',      -- how that began, or why there was none
    queued_at  timestamptz NOT NULL DEFAULT now(),
    tried_at   timestamptz,
    ended_at   timestamptz,
    UNIQUE (webhook_id, key)
);
CREATE INDEX messages_queued ON messages (id) WHERE state = 'queued';
CREATE INDEX messages_ended ON messages (ended_at);
CREATE INDEX letters_queued ON letters (id) WHERE state = 'queued';

-- Of what people want to be told by mail; project_id null: of all projects they have not chosen for.
CREATE TABLE wishes (
    person_id  bigint NOT NULL REFERENCES people ON DELETE CASCADE,
    project_id bigint REFERENCES projects ON DELETE CASCADE,
    kinds      text[] NOT NULL,
    UNIQUE NULLS NOT DISTINCT (person_id, project_id)
);

-- The logs of a project are looked into, the latest first.
CREATE INDEX attempts_logs_of ON attempts (project_id, id DESC) WHERE claimed_at IS NOT NULL;

-- By what a project's badge and feed are found.
ALTER TABLE projects ADD COLUMN feed_key text NOT NULL DEFAULT '';
CREATE UNIQUE INDEX projects_feed ON projects (feed_key) WHERE feed_key <> '';

-- +goose Down
DROP INDEX attempts_logs_of;
DROP INDEX letters_queued;
DROP INDEX projects_feed;
ALTER TABLE projects DROP COLUMN feed_key;
DROP TABLE wishes;
DROP TABLE messages;
DROP TABLE webhooks;
