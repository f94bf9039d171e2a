-- +goose Up
-- How many minutes of machines a project may use in a month.
CREATE TABLE budgets (
    project_id   bigint PRIMARY KEY REFERENCES projects ON DELETE CASCADE,
    minutes      bigint NOT NULL,
    warn_at      int NOT NULL,               -- per cent
    hold         boolean NOT NULL,           -- the project is held once it is used up
    set_by       text NOT NULL,
    warned_month text NOT NULL DEFAULT '',   -- in which it was warned of, and used up
    spent_month  text NOT NULL DEFAULT ''
);
-- Runs whose times were set back, for show.
ALTER TABLE projects ADD COLUMN set_back boolean NOT NULL DEFAULT false;

-- +goose Down
ALTER TABLE projects DROP COLUMN set_back;
DROP TABLE budgets;
