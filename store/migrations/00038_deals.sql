-- +goose Up
-- What was dealt among the variants of a job in a run: the first that asks has it dealt, for all.
CREATE TABLE deals (
    run_id bigint NOT NULL REFERENCES runs ON DELETE CASCADE,
    place  text NOT NULL,   -- which job and step, and which of its other values
    digest bytea NOT NULL,  -- of the list
    shares jsonb NOT NULL,  -- in the order of the variants
    known  int NOT NULL,
    PRIMARY KEY (run_id, place)
);

-- +goose Down
DROP TABLE deals;
