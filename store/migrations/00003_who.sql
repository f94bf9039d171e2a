-- +goose Up
-- What a secret is called in the projects that may use it, who may have it, and each value it has had.
ALTER TABLE secrets RENAME TO secrets_before;
CREATE TABLE secrets (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    home_id    bigint NOT NULL REFERENCES projects ON DELETE CASCADE, -- the project whose keepers set it
    note       text NOT NULL DEFAULT '',
    expires_at timestamptz,
    pipelines  text[] NOT NULL DEFAULT '{}',  -- globs; none: any
    branches   text[] NOT NULL DEFAULT '{}',
    tags       text[] NOT NULL DEFAULT '{}',
    revision   int NOT NULL,
    used_run   bigint REFERENCES runs ON DELETE SET NULL, -- the last that was given it
    used_at    timestamptz
);
CREATE TABLE secret_names (
    project_id bigint NOT NULL REFERENCES projects ON DELETE CASCADE,
    name       text NOT NULL,
    secret_id  bigint NOT NULL REFERENCES secrets ON DELETE CASCADE,
    PRIMARY KEY (project_id, name),
    UNIQUE (secret_id, project_id)
);
CREATE TABLE secret_revisions (
    secret_id  bigint NOT NULL REFERENCES secrets ON DELETE CASCADE,
    revision   int NOT NULL,
    kind       text NOT NULL CHECK (kind IN ('text', 'file')),
    ciphertext bytea NOT NULL,               -- age-encrypted
    sealed_to  text NOT NULL,                -- the master's recipient
    size       int NOT NULL,                 -- of the value, in bytes; 0 unknown
    set_at     timestamptz NOT NULL DEFAULT now(),
    set_by     text NOT NULL,
    restored   int NOT NULL DEFAULT 0,       -- the revision whose value was put back
    PRIMARY KEY (secret_id, revision)
);
-- +goose StatementBegin
DO $$
DECLARE old secrets_before; made bigint;
BEGIN
    FOR old IN SELECT * FROM secrets_before LOOP
        INSERT INTO secrets (home_id, revision) VALUES (old.project_id, old.revision) RETURNING id INTO made;
        INSERT INTO secret_names VALUES (old.project_id, old.name, made);
        INSERT INTO secret_revisions (secret_id, revision, kind, ciphertext, sealed_to, size, set_at, set_by)
            VALUES (made, old.revision, old.kind, old.ciphertext, '', 0, old.updated_at, old.updated_by);
    END LOOP;
END $$;
-- +goose StatementEnd
DROP TABLE secrets_before;

-- The master identities that records are or were encrypted under, each with something only it opens. None can be
-- forgotten while a record needs it. That of before this table has no recipient that is known.
CREATE TABLE masters (
    recipient text PRIMARY KEY,
    proof     bytea NOT NULL,
    made_at   timestamptz NOT NULL DEFAULT now()
);
INSERT INTO masters (recipient, proof)
    (SELECT '', ciphertext FROM secret_revisions UNION ALL SELECT '', hook_key FROM projects) LIMIT 1;
ALTER TABLE secret_revisions ADD CONSTRAINT secret_revisions_master FOREIGN KEY (sealed_to) REFERENCES masters;
CREATE INDEX secret_revisions_sealed ON secret_revisions (sealed_to);
ALTER TABLE projects ADD COLUMN hook_key_sealed_to text NOT NULL DEFAULT ''
    CONSTRAINT projects_master REFERENCES masters;
ALTER TABLE projects ALTER COLUMN hook_key_sealed_to DROP DEFAULT;

-- Other projects whose jobs may read a project's source, as submodules.
CREATE TABLE lendings (
    project_id bigint NOT NULL REFERENCES projects ON DELETE CASCADE,
    to_id      bigint NOT NULL REFERENCES projects ON DELETE CASCADE,
    PRIMARY KEY (project_id, to_id)
);

ALTER TABLE people
    ADD COLUMN administrator boolean NOT NULL DEFAULT false,
    ADD COLUMN disabled      boolean NOT NULL DEFAULT false,
    ADD COLUMN issuer        text NOT NULL DEFAULT '',  -- of OpenID Connect, and who they are there
    ADD COLUMN subject       text NOT NULL DEFAULT '',
    ADD COLUMN seen_at       timestamptz;
UPDATE people SET administrator = true; -- whoever could sign in could do everything
CREATE UNIQUE INDEX people_subject ON people (issuer, subject) WHERE issuer <> '';

CREATE TABLE groups (
    id             bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name           text NOT NULL UNIQUE,
    administrators boolean NOT NULL DEFAULT false,
    issuer_group   text NOT NULL DEFAULT ''   -- whoever is in this group at the issuer is a member
);
CREATE TABLE members (
    group_id  bigint NOT NULL REFERENCES groups ON DELETE CASCADE,
    person_id bigint NOT NULL REFERENCES people ON DELETE CASCADE,
    by_issuer boolean NOT NULL DEFAULT false,
    PRIMARY KEY (group_id, person_id)
);
CREATE INDEX members_person ON members (person_id);
CREATE TABLE grants (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    project_id bigint REFERENCES projects ON DELETE CASCADE,   -- null: every project
    person_id  bigint REFERENCES people ON DELETE CASCADE,
    group_id   bigint REFERENCES groups ON DELETE CASCADE,
    role       text NOT NULL CHECK (role IN ('reader', 'builder', 'keeper')),
    CHECK (num_nonnulls(person_id, group_id) = 1),
    UNIQUE NULLS NOT DISTINCT (project_id, person_id, group_id)
);

ALTER TABLE sessions ADD COLUMN address text NOT NULL DEFAULT '', ADD COLUMN by_issuer boolean NOT NULL DEFAULT false;
ALTER TABLE tokens
    ADD COLUMN role       text NOT NULL DEFAULT '',            -- the most it may do; '' as its person
    ADD COLUMN project_id bigint REFERENCES projects ON DELETE CASCADE, -- the only one it is for
    ADD COLUMN expires_at timestamptz;
ALTER TABLE attempts ADD COLUMN runner_token bigint NOT NULL DEFAULT 0; -- of the runner that has it

CREATE TABLE sign_in_failures (
    name    text NOT NULL,
    address text NOT NULL,
    at      timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX sign_in_failures_name ON sign_in_failures (name, at);
CREATE INDEX sign_in_failures_address ON sign_in_failures (address, at);

-- Browsers from which somebody has signed in; what others fail from the same address does not count against them.
CREATE TABLE devices (
    token_hash bytea PRIMARY KEY,
    person_id  bigint NOT NULL REFERENCES people ON DELETE CASCADE,
    made_at    timestamptz NOT NULL DEFAULT now()
);

-- Who did what. Rows are added and never changed.
CREATE TABLE audit (
    id      bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    at      timestamptz NOT NULL DEFAULT now(),
    who     text NOT NULL,
    door    text NOT NULL,             -- session, token, runner, service
    token   bigint NOT NULL DEFAULT 0,
    address text NOT NULL DEFAULT '',
    act     text NOT NULL,
    project text NOT NULL DEFAULT '',
    subject text NOT NULL DEFAULT '',
    before  jsonb,
    after   jsonb
);
CREATE INDEX audit_project ON audit (project, id);
-- +goose StatementBegin
CREATE FUNCTION audit_stays() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN RAISE EXCEPTION 'the audit trail is only ever added to'; END $$;
-- +goose StatementEnd
CREATE TRIGGER audit_rows BEFORE UPDATE OR DELETE ON audit FOR EACH ROW EXECUTE FUNCTION audit_stays();
CREATE TRIGGER audit_all BEFORE TRUNCATE ON audit FOR EACH STATEMENT EXECUTE FUNCTION audit_stays();

-- +goose Down
DROP TABLE audit, devices, sign_in_failures, grants, members, groups, lendings;
DROP FUNCTION audit_stays;
ALTER TABLE attempts DROP COLUMN runner_token;
ALTER TABLE tokens DROP COLUMN role, DROP COLUMN project_id, DROP COLUMN expires_at;
ALTER TABLE sessions DROP COLUMN address, DROP COLUMN by_issuer;
ALTER TABLE people DROP COLUMN administrator, DROP COLUMN disabled, DROP COLUMN issuer, DROP COLUMN subject,
    DROP COLUMN seen_at;
ALTER TABLE projects DROP COLUMN hook_key_sealed_to;
CREATE TABLE secrets_before AS SELECT n.project_id, n.name, r.kind, r.ciphertext, r.revision, r.set_at AS updated_at,
    r.set_by AS updated_by
    FROM secrets s JOIN secret_names n ON n.secret_id = s.id
    JOIN secret_revisions r ON r.secret_id = s.id AND r.revision = s.revision;
DROP TABLE secret_revisions, secret_names, secrets, masters;
ALTER TABLE secrets_before RENAME TO secrets;
ALTER TABLE secrets ADD PRIMARY KEY (project_id, name);
