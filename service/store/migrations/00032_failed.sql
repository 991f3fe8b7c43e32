-- +goose Up
CREATE INDEX frames_failed ON frames (run_id, shot) WHERE state = 'failed';

-- +goose Down
DROP INDEX frames_failed;
