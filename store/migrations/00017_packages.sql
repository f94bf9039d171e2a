-- +goose Up
-- What was found in packages, and what the checklist says of them.
CREATE TABLE packages (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    project_id bigint NOT NULL REFERENCES projects ON DELETE CASCADE,
    run_id     bigint NOT NULL REFERENCES runs ON DELETE CASCADE,
    step       int NOT NULL,
    at         timestamptz NOT NULL DEFAULT now(),
    file       text NOT NULL,
    sha256     text NOT NULL,
    size       bigint NOT NULL,
    kind       text NOT NULL,
    platform   text NOT NULL,
    app        text NOT NULL,     -- application id
    version    text NOT NULL,
    build      text NOT NULL,
    facts      jsonb NOT NULL,
    findings   jsonb NOT NULL,
    UNIQUE (run_id, step, file)
);
CREATE INDEX packages_project ON packages (project_id, id);
CREATE INDEX packages_last ON packages (project_id, app, kind, id);

-- +goose Down
DROP TABLE packages;
