-- +goose Up
-- How far an app's build numbers have come on a platform. floor is what a store had before the app came here.
CREATE TABLE version_lines (
    project_id bigint NOT NULL REFERENCES projects ON DELETE CASCADE,
    app        text NOT NULL,
    platform   text NOT NULL CHECK (platform IN ('android', 'ios')),
    last_build bigint NOT NULL,
    floor      bigint NOT NULL DEFAULT 0,
    PRIMARY KEY (project_id, app, platform)
);

-- Every version that was handed out; rows are never removed. A name is the run's while it works, and free when it
-- fails.
CREATE TABLE versions (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    project_id  bigint NOT NULL REFERENCES projects ON DELETE CASCADE,
    app         text NOT NULL,
    platform    text NOT NULL CHECK (platform IN ('android', 'ios')),
    name        text NOT NULL,
    name_key    text COLLATE "C" NOT NULL,       -- its order
    reserved    boolean NOT NULL,                -- the name itself was handed out, and not only a number
    first_build bigint NOT NULL,
    last_build  bigint NOT NULL,
    run_id      bigint NOT NULL REFERENCES runs ON DELETE CASCADE,
    why         text NOT NULL,
    lands       boolean NOT NULL,                -- the run means to bring it back into the repository
    state       text NOT NULL CHECK (state IN ('building', 'kept', 'void')),
    landed      text NOT NULL DEFAULT '',        -- the commit
    issued_at   timestamptz NOT NULL DEFAULT now(),
    UNIQUE (project_id, app, platform, first_build)
);
CREATE UNIQUE INDEX versions_name ON versions (project_id, app, platform, name_key) WHERE reserved AND state <> 'void';
CREATE UNIQUE INDEX versions_run ON versions (run_id, app, platform) WHERE state <> 'void';
CREATE INDEX versions_highest ON versions (project_id, app, platform, name_key) WHERE state <> 'void';
CREATE INDEX versions_list ON versions (project_id, id);

-- +goose Down
DROP TABLE versions, version_lines;
