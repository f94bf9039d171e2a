-- +goose Up
-- Which ends of certificates, profiles and secrets were told of already, each by a key that says which and how near.
CREATE TABLE told_expiries (
    project_id bigint NOT NULL REFERENCES projects ON DELETE CASCADE,
    key        text NOT NULL,
    told_at    timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (project_id, key)
);

-- +goose Down
DROP TABLE told_expiries;
