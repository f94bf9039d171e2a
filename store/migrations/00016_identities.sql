-- +goose Up
-- Signing keys in custody, with their certificates and profiles. A key that signed a release is never forgotten: every
-- revision stays for as long as the identity does.
CREATE TABLE identities (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    project_id bigint NOT NULL REFERENCES projects ON DELETE CASCADE,
    name       text NOT NULL,
    platform   text NOT NULL CHECK (platform IN ('android', 'ios')),
    note       text NOT NULL DEFAULT '',
    apps       text[] NOT NULL DEFAULT '{}',  -- application ids it may sign; none: any of the project
    pipelines  text[] NOT NULL DEFAULT '{}',  -- globs; none: any
    branches   text[] NOT NULL DEFAULT '{}',
    tags       text[] NOT NULL DEFAULT '{}',
    revision   int NOT NULL,
    UNIQUE (project_id, name)
);
CREATE TABLE identity_revisions (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    identity_id bigint NOT NULL REFERENCES identities ON DELETE CASCADE,
    revision    int NOT NULL,
    chain       bytea NOT NULL,                -- certificates as PEM, the key's own first
    fingerprint text NOT NULL,                 -- SHA-256 of that one, hexadecimal with colons
    profiles    jsonb NOT NULL DEFAULT '[]',    -- provisioning profiles of iOS, in Base64
    ciphertext  bytea NOT NULL,                -- the key, age-encrypted
    sealed_to   text NOT NULL REFERENCES masters,
    made        boolean NOT NULL,              -- here: nobody else has it
    set_at      timestamptz NOT NULL DEFAULT now(),
    set_by      text NOT NULL,
    exported_at timestamptz,
    exported_by text NOT NULL DEFAULT '',
    UNIQUE (identity_id, revision)
);
CREATE INDEX identity_revisions_sealed ON identity_revisions (sealed_to);

-- By which certificate an app was signed last. Another is refused until a keeper has said that it may take its place.
CREATE TABLE app_certificates (
    project_id  bigint NOT NULL REFERENCES projects ON DELETE CASCADE,
    platform    text NOT NULL,
    app         text NOT NULL,                 -- application id
    fingerprint text NOT NULL,
    run         bigint NOT NULL,               -- number of the run that signed first with it
    since       timestamptz NOT NULL DEFAULT now(),
    next        text NOT NULL DEFAULT '',      -- the fingerprint that may take its place
    PRIMARY KEY (project_id, platform, app)
);

-- Who signed what with which key. It stays when identity, run and project are gone.
CREATE TABLE signatures (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    at          timestamptz NOT NULL DEFAULT now(),
    project     text NOT NULL,
    identity    text NOT NULL,
    revision    int NOT NULL,
    fingerprint text NOT NULL,
    platform    text NOT NULL,
    app         text NOT NULL,
    file        text NOT NULL,
    digest      bytea NOT NULL,
    run         bigint NOT NULL,
    pipeline    text NOT NULL,
    branch      text NOT NULL,
    commit      text NOT NULL,
    step        int NOT NULL,
    runner      text NOT NULL
);
CREATE INDEX signatures_project ON signatures (project, id);
CREATE TRIGGER signatures_rows BEFORE UPDATE OR DELETE ON signatures FOR EACH ROW EXECUTE FUNCTION audit_stays();
CREATE TRIGGER signatures_all BEFORE TRUNCATE ON signatures FOR EACH STATEMENT EXECUTE FUNCTION audit_stays();

-- +goose Down
DROP TABLE signatures, app_certificates, identity_revisions, identities;
