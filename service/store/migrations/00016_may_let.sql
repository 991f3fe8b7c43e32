-- +goose Up
ALTER TABLE schedules ADD COLUMN may_let numeric; -- what its chance reckons with for servers on the way

-- +goose Down
ALTER TABLE schedules DROP COLUMN may_let;
