-- +goose Up
ALTER TABLE tokens ADD COLUMN used_at timestamptz; -- to the minute, by the wall clock; null: never

-- +goose Down
ALTER TABLE tokens DROP COLUMN used_at;
