-- +goose Up
-- Planning is counted before it begins: what ends the server again and again is set aside.
ALTER TABLE pushes
    ADD COLUMN begun        int NOT NULL DEFAULT 0,
    ADD COLUMN set_aside_at timestamptz;
ALTER TABLE runs ADD COLUMN push_id bigint NOT NULL DEFAULT 0; -- the event that started it; 0: a person
-- Its steps may be given a machine's own network.
ALTER TABLE projects ADD COLUMN host_network boolean NOT NULL DEFAULT false;
-- Why pushes laid beside its repository are not taken in.
ALTER TABLE projects ADD COLUMN hook_trouble text NOT NULL DEFAULT '';
CREATE INDEX runs_of_push ON runs (push_id) WHERE push_id <> 0;
CREATE INDEX runs_of_commit ON runs (project_id, commit_id);
CREATE INDEX pushes_of_project ON pushes (project_id, id);

-- +goose Down
DROP INDEX pushes_of_project;
ALTER TABLE projects DROP COLUMN hook_trouble, DROP COLUMN host_network;
ALTER TABLE runs DROP COLUMN push_id;
DROP INDEX runs_of_commit;
ALTER TABLE pushes DROP COLUMN begun, DROP COLUMN set_aside_at;
