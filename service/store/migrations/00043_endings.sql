-- +goose Up

-- What was forecast of runs that are planned anew by themselves, as they began and half-way, and when their shots ended: service/endings.
-- What was learnt of a run outlives it.
CREATE TABLE endings (
	run_id uuid NOT NULL,
	later boolean NOT NULL, -- half-way
	told_at timestamptz NOT NULL,
	waiting integer NOT NULL, -- frames
	told json NOT NULL,
	ended_at timestamptz, -- the run; without it, it goes on
	PRIMARY KEY (run_id, later)
);
CREATE INDEX endings_ended ON endings (ended_at) WHERE ended_at IS NOT NULL;
CREATE INDEX endings_open ON endings (run_id) WHERE ended_at IS NULL;

ALTER TABLE schedules ADD COLUMN kept json;

-- +goose Down
ALTER TABLE schedules DROP COLUMN kept;
DROP TABLE endings;
