-- +goose Up
ALTER TABLE schedule_changes ADD COLUMN moves jsonb; -- who has more frames by it, and who less

-- +goose Down
ALTER TABLE schedule_changes DROP COLUMN moves;
