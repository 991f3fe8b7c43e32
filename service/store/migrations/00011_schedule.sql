-- +goose Up

-- How far a run is planned anew by itself.
ALTER TABLE runs ADD policy text NOT NULL DEFAULT 'auto' CHECK (policy IN ('auto', 'ask', 'off'));

-- By when it is due, where that was moved since it was planned.
ALTER TABLE runs ADD deadline timestamptz;

-- What is expected of the schedule of a run's rest, as it was last looked at.
CREATE TABLE schedules (
	run_id uuid PRIMARY KEY REFERENCES runs ON DELETE CASCADE,
	looked_at timestamptz NOT NULL,
	chance float8,                  -- to be in time; none while no frame waits
	finish timestamptz,             -- in the middle of what was simulated; none: never
	seen jsonb NOT NULL DEFAULT '{}' -- what the world was like that bears on it
);

CREATE TABLE schedule_changes (
	id uuid PRIMARY KEY,
	run_id uuid NOT NULL REFERENCES runs ON DELETE CASCADE,
	at timestamptz NOT NULL,
	state text NOT NULL,            -- made, proposed, declined, superseded, undone
	cause text NOT NULL,
	gain text NOT NULL,
	decided_by text NOT NULL,
	decided_at timestamptz,         -- by a person
	plan_id uuid NOT NULL,
	chance_before float8 NOT NULL,
	chance_after float8 NOT NULL,
	finish_before timestamptz,
	finish_after timestamptz,
	cost_before numeric NOT NULL,
	cost_after numeric NOT NULL,
	more numeric NOT NULL,          -- that it takes beyond the run's cap
	moved int NOT NULL,             -- frames that go to other crews
	frames int NOT NULL,            -- that were left
	before jsonb NOT NULL DEFAULT '{}' -- the schedule that it took the place of, and when that was: to undo it
);
CREATE INDEX schedule_changes_run ON schedule_changes (run_id, at DESC);

-- +goose Down
DROP TABLE schedule_changes;
DROP TABLE schedules;
ALTER TABLE runs DROP policy, DROP deadline;
