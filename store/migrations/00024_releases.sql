-- +goose Up
-- Versions of apps that are to go to people, each made of what one run has kept. What is withdrawn stays, and makes
-- room for another of its name.
CREATE TABLE releases (
    id            bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    project_id    bigint NOT NULL REFERENCES projects ON DELETE CASCADE,
    app           text NOT NULL,
    name          text NOT NULL,
    name_key      text COLLATE "C" NOT NULL,   -- its order
    builds        jsonb NOT NULL,              -- the build number by the platform
    run_id        bigint NOT NULL REFERENCES runs ON DELETE CASCADE,
    made_at       timestamptz NOT NULL DEFAULT now(),
    made_by       text NOT NULL DEFAULT '',    -- '' its run
    withdrawn_at  timestamptz,
    withdrawn_by  text NOT NULL DEFAULT '',
    withdrawn_why text NOT NULL DEFAULT ''
);
CREATE UNIQUE INDEX releases_name ON releases (project_id, app, name_key) WHERE withdrawn_at IS NULL;
CREATE INDEX releases_run ON releases (run_id);
CREATE INDEX releases_list ON releases (project_id, id);

-- What a release is made of. A kept file that is part of one is kept for as long as it is there.
CREATE TABLE release_packages (
    release_id  bigint NOT NULL REFERENCES releases ON DELETE CASCADE,
    package_id  bigint NOT NULL REFERENCES packages ON DELETE CASCADE,
    artifact_id bigint NOT NULL REFERENCES artifacts,
    PRIMARY KEY (release_id, package_id)
);
CREATE INDEX release_packages_artifact ON release_packages (artifact_id);

-- When a version was brought back into the repository; null of those before this was written down.
ALTER TABLE versions ADD COLUMN landed_at timestamptz;

-- Until when a server does the steps of a job that takes no machine.
ALTER TABLE attempts ADD COLUMN driven_until timestamptz;

-- +goose Down
ALTER TABLE attempts DROP COLUMN driven_until;
ALTER TABLE versions DROP COLUMN landed_at;
DROP TABLE release_packages, releases;
