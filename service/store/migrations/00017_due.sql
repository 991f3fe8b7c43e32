-- +goose Up
ALTER TABLE bookings ADD COLUMN due_at timestamptz; -- its frames are to be rendered by then; null: at any time

-- +goose Down
ALTER TABLE bookings DROP COLUMN due_at;
