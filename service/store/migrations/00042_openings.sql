-- +goose Up
-- Of a try's seconds, opening the scene; what was written down of runs is summed up anew with it.
ALTER TABLE tries ADD COLUMN opening_s double precision NOT NULL DEFAULT 0;
UPDATE tries SET opening_s = (measured->>'opening_part_s')::float8 WHERE measured->>'opening_part_s' IS NOT NULL;
DELETE FROM tallies;
-- How many frames of a start share opening_s in frame_s.
ALTER TABLE bookings ADD COLUMN in_start integer NOT NULL DEFAULT 1;

-- +goose Down
ALTER TABLE bookings DROP COLUMN in_start;
ALTER TABLE tries DROP COLUMN opening_s;
