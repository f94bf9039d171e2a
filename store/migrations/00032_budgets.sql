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
-- How long machines were at work for a project on a day (UTC), so that years are summed up from few rows. The last days
-- are summed up anew, again and again.
CREATE TABLE used_days (
    project_id bigint NOT NULL REFERENCES projects ON DELETE CASCADE,
    day        date NOT NULL,
    took_ms    bigint NOT NULL,
    PRIMARY KEY (project_id, day)
);
INSERT INTO used_days (project_id, day, took_ms)
    SELECT p.project_id, (s.ended_at AT TIME ZONE 'UTC')::date, sum(s.took_ms)
    FROM spans s JOIN places p ON p.id = s.place_id
    WHERE p.kind = 'job' AND p.machine <> '@service' GROUP BY 1, 2;

-- Runs whose times were set back, for show.
ALTER TABLE projects ADD COLUMN set_back boolean NOT NULL DEFAULT false;

-- +goose Down
ALTER TABLE projects DROP COLUMN set_back;
DROP TABLE used_days;
DROP TABLE budgets;
