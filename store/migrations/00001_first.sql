-- +goose Up
CREATE TABLE people (
    id            bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name          text NOT NULL UNIQUE,
    password_hash text NOT NULL,
    created_at    timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE sessions (
    token_hash bytea PRIMARY KEY,
    person_id  bigint NOT NULL REFERENCES people ON DELETE CASCADE,
    created_at timestamptz NOT NULL DEFAULT now(),
    expires_at timestamptz NOT NULL
);

CREATE TABLE tokens (
    id           bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    token_hash   bytea NOT NULL UNIQUE,
    name         text NOT NULL,
    kind         text NOT NULL CHECK (kind IN ('person', 'runner')),
    person_id    bigint REFERENCES people ON DELETE CASCADE,
    created_at   timestamptz NOT NULL DEFAULT now(),
    last_used_at timestamptz
);

CREATE TABLE projects (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name       text NOT NULL UNIQUE,
    remote     text NOT NULL,
    hook_key   bytea NOT NULL,              -- age-encrypted
    last_run   bigint NOT NULL DEFAULT 0,   -- counters, raised under the row's lock
    last_build bigint NOT NULL DEFAULT 0,
    created_at timestamptz NOT NULL DEFAULT now()
);

-- What arrived, kept before anything is done about it.
CREATE TABLE pushes (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    project_id  bigint NOT NULL REFERENCES projects ON DELETE CASCADE,
    delivery    text NOT NULL,
    body        jsonb NOT NULL,
    received_at timestamptz NOT NULL DEFAULT now(),
    planned_at  timestamptz,
    tries       int NOT NULL DEFAULT 0,
    note        text NOT NULL DEFAULT '',
    UNIQUE (project_id, delivery)
);
CREATE INDEX pushes_unplanned ON pushes (id) WHERE planned_at IS NULL;

CREATE TABLE runs (
    id           bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    project_id   bigint NOT NULL REFERENCES projects ON DELETE CASCADE,
    number       bigint NOT NULL,
    pipeline     text NOT NULL,
    trigger      text NOT NULL,
    branch       text NOT NULL DEFAULT '',
    tag          text NOT NULL DEFAULT '',
    commit_id    text NOT NULL,
    subject      text NOT NULL DEFAULT '',
    author       text NOT NULL DEFAULT '',
    started_by   text NOT NULL DEFAULT '',
    build_number bigint NOT NULL DEFAULT 0,
    version_name text NOT NULL DEFAULT '',
    env          jsonb NOT NULL DEFAULT '{}',
    state        text NOT NULL,
    reason       text NOT NULL DEFAULT '',
    failed_at    text NOT NULL DEFAULT '',
    findings     jsonb NOT NULL DEFAULT '[]',
    queued_at    timestamptz NOT NULL,
    started_at   timestamptz,
    finished_at  timestamptz,
    UNIQUE (project_id, number)
);

CREATE TABLE jobs (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    run_id     bigint NOT NULL REFERENCES runs ON DELETE CASCADE,
    position   int NOT NULL,
    name       text NOT NULL,
    definition jsonb NOT NULL,
    state      text NOT NULL,
    reason     text NOT NULL DEFAULT '',
    ready      boolean NOT NULL,
    UNIQUE (run_id, name)
);

-- One try of a job. The rows in state queued are the queue.
CREATE TABLE attempts (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    job_id      bigint NOT NULL REFERENCES jobs ON DELETE CASCADE,
    run_id      bigint NOT NULL REFERENCES runs ON DELETE CASCADE,
    number      int NOT NULL,
    labels      text[] NOT NULL,
    state       text NOT NULL,
    reason      text NOT NULL DEFAULT '',
    runner      text NOT NULL DEFAULT '',
    stop        boolean NOT NULL DEFAULT false,
    stop_reason text NOT NULL DEFAULT '',
    lease_until timestamptz,
    queued_at   timestamptz NOT NULL,
    claimed_at  timestamptz,
    prepared_at timestamptz,
    finished_at timestamptz,
    log_lines   bigint NOT NULL DEFAULT 0,
    log_blob    text NOT NULL DEFAULT '',
    log_size    bigint NOT NULL DEFAULT 0,
    log_moved   timestamptz,
    log_purged  boolean NOT NULL DEFAULT false,
    UNIQUE (job_id, number)
);
CREATE INDEX attempts_queue ON attempts (queued_at, id) WHERE state = 'queued';
CREATE INDEX attempts_leases ON attempts (lease_until) WHERE state = 'running';
CREATE INDEX attempts_logs ON attempts (id) WHERE NOT log_purged;
CREATE INDEX attempts_run ON attempts (run_id);

CREATE TABLE steps (
    attempt_id  bigint NOT NULL REFERENCES attempts ON DELETE CASCADE,
    position    int NOT NULL,
    name        text NOT NULL,
    state       text NOT NULL,
    reason      text NOT NULL DEFAULT '',
    exit_code   int,
    started_at  timestamptz,
    finished_at timestamptz,
    first_line  bigint NOT NULL DEFAULT 0,
    last_line   bigint NOT NULL DEFAULT 0,
    excerpt     jsonb NOT NULL DEFAULT '[]',
    tests       jsonb,
    PRIMARY KEY (attempt_id, position)
);

CREATE TABLE caches (
    id           bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    project_id   bigint NOT NULL REFERENCES projects ON DELETE CASCADE,
    name         text NOT NULL,
    key          text NOT NULL,
    size         bigint NOT NULL,
    blob         text NOT NULL,
    created_at   timestamptz NOT NULL DEFAULT now(),
    last_used_at timestamptz NOT NULL DEFAULT now(),
    UNIQUE (project_id, key)
);

CREATE TABLE cache_uses (
    attempt_id bigint NOT NULL REFERENCES attempts ON DELETE CASCADE,
    name       text NOT NULL,
    key        text NOT NULL,
    hit        boolean NOT NULL,
    saved      boolean NOT NULL,
    size       bigint NOT NULL,
    took_ms    bigint NOT NULL,
    note       text NOT NULL,
    PRIMARY KEY (attempt_id, name)
);

CREATE TABLE artifacts (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    attempt_id bigint NOT NULL REFERENCES attempts ON DELETE CASCADE,
    name       text NOT NULL,
    path       text NOT NULL,
    size       bigint NOT NULL,
    sha256     text NOT NULL,
    blob       text NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now(),
    UNIQUE (attempt_id, name, path)
);

CREATE TABLE secrets (
    project_id bigint NOT NULL REFERENCES projects ON DELETE CASCADE,
    name       text NOT NULL,
    kind       text NOT NULL CHECK (kind IN ('text', 'file')),
    ciphertext bytea NOT NULL,              -- age-encrypted
    revision   int NOT NULL,
    updated_at timestamptz NOT NULL DEFAULT now(),
    updated_by text NOT NULL,
    PRIMARY KEY (project_id, name)
);

-- Every build number ever issued; rows are never changed or removed.
CREATE TABLE ledger (
    project_id   bigint NOT NULL REFERENCES projects ON DELETE CASCADE,
    build_number bigint NOT NULL,
    version_name text NOT NULL,
    run_id       bigint NOT NULL REFERENCES runs ON DELETE CASCADE,
    issued_at    timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (project_id, build_number)
);

CREATE TABLE runners (
    name     text PRIMARY KEY,
    labels   text[] NOT NULL,
    platform text NOT NULL,
    slots    int NOT NULL,
    seen_at  timestamptz NOT NULL
);

-- Events written in the transaction of what they tell, published after it and then removed.
CREATE TABLE outbox (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    project_id bigint NOT NULL,
    run        bigint NOT NULL,
    body       jsonb NOT NULL
);

-- +goose Down
DROP TABLE outbox, runners, ledger, secrets, artifacts, cache_uses, caches, steps, attempts, jobs, runs, pushes,
    projects, tokens, sessions, people;
