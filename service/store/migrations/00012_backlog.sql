-- +goose Up
ALTER TABLE runs DROP CONSTRAINT runs_priority_check;
ALTER TABLE runs ADD CONSTRAINT runs_priority_check CHECK (priority BETWEEN -2 AND 1); -- -2: the backlog
-- The backlog is listed by itself.
CREATE INDEX runs_by_priority ON runs (priority, created_at DESC, id) WHERE kind = 'run';

-- +goose Down
DROP INDEX runs_by_priority;
UPDATE runs SET priority = -1 WHERE priority < -1;
ALTER TABLE runs DROP CONSTRAINT runs_priority_check;
ALTER TABLE runs ADD CONSTRAINT runs_priority_check CHECK (priority BETWEEN -1 AND 1);
