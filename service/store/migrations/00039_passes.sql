-- +goose Up
-- Frames of a shot that needs those of others are blocked until those are done: nobody may take them. Runs that have any are chained.
ALTER TABLE frames DROP CONSTRAINT frames_state_check;
ALTER TABLE frames ADD CONSTRAINT frames_state_check CHECK (state IN ('waiting', 'blocked', 'rendering', 'done', 'failed'));
CREATE INDEX frames_blocked ON frames (run_id, frame) WHERE state = 'blocked';
ALTER TABLE runs ADD COLUMN chained boolean NOT NULL DEFAULT false;

-- +goose Down
ALTER TABLE runs DROP COLUMN chained;
DROP INDEX frames_blocked;
UPDATE frames SET state = 'waiting' WHERE state = 'blocked';
ALTER TABLE frames DROP CONSTRAINT frames_state_check;
ALTER TABLE frames ADD CONSTRAINT frames_state_check CHECK (state IN ('waiting', 'rendering', 'done', 'failed'));
