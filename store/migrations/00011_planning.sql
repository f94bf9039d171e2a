-- +goose Up
-- Until when whoever plans an event has it to itself.
ALTER TABLE pushes ADD COLUMN planning_until timestamptz;

-- +goose Down
ALTER TABLE pushes DROP COLUMN planning_until;
