-- +goose Up
-- One index for all frames that wait, those that failed before apart: whether any waits, how many do and which comes next of either
-- is read from it, whatever was rendered before.
ALTER TABLE frames ADD COLUMN tried boolean GENERATED ALWAYS AS (failures > 0) STORED;
DROP INDEX frames_waiting;
DROP INDEX frames_tried;
CREATE INDEX frames_waiting ON frames (run_id, shot, tried, warm_up DESC, repeat, frame) WHERE state = 'waiting';

-- +goose Down
DROP INDEX frames_waiting;
CREATE INDEX frames_waiting ON frames (run_id, shot, warm_up DESC, repeat, frame) WHERE state = 'waiting' AND failures = 0;
CREATE INDEX frames_tried ON frames (run_id, shot, failed_on, only_on) WHERE state = 'waiting' AND failures > 0;
ALTER TABLE frames DROP COLUMN tried;
