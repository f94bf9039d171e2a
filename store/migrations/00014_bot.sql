-- +goose Up
-- Who commits what a run lands, and where it is pushed when that is another address than the repository is read from.
ALTER TABLE projects
    ADD COLUMN bot_name  text NOT NULL DEFAULT '',
    ADD COLUMN bot_email text NOT NULL DEFAULT '',
    ADD COLUMN push_to   text NOT NULL DEFAULT '',   -- by ssh
    ADD COLUMN push_host text NOT NULL DEFAULT '';   -- its host's key, as ssh-keyscan prints it

-- +goose Down
ALTER TABLE projects DROP COLUMN bot_name, DROP COLUMN bot_email, DROP COLUMN push_to, DROP COLUMN push_host;
