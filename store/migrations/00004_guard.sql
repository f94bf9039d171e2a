-- +goose Up
-- What a run that is given protected secrets restores, nobody may have saved who could not be given them. What secrets
-- have opened, and is in a cache, no run from outside restores.
ALTER TABLE runs ADD COLUMN guard text NOT NULL DEFAULT '',    -- which protected secrets its steps list; '': none
    ADD COLUMN gated boolean NOT NULL DEFAULT false;           -- it was given a secret, or restored what is gated
ALTER TABLE caches ADD COLUMN guard text NOT NULL DEFAULT '', ADD COLUMN gated boolean NOT NULL DEFAULT true,
    DROP CONSTRAINT caches_project_id_key_key, ADD CONSTRAINT caches_once UNIQUE (project_id, guard, key);

-- +goose Down
DELETE FROM caches WHERE guard <> '';
ALTER TABLE caches DROP CONSTRAINT caches_once, DROP COLUMN guard, DROP COLUMN gated,
    ADD CONSTRAINT caches_project_id_key_key UNIQUE (project_id, key);
ALTER TABLE runs DROP COLUMN guard, DROP COLUMN gated;
