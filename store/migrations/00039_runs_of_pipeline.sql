-- +goose Up
-- The last runs of each pipeline are read at every glance at a project: without walking over those of all others.
CREATE INDEX runs_of_pipeline ON runs (project_id, pipeline, number) WHERE bisection = 0;

-- +goose Down
DROP INDEX runs_of_pipeline;
