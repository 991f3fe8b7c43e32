-- +goose Up
-- What was seen of a finished frame's file beside its format: layers, and how many of its values are no number. Nothing: NULL.
ALTER TABLE frames ADD COLUMN seen jsonb;
CREATE INDEX frames_marked ON frames (run_id) WHERE jsonb_exists(seen, 'not_finite');

-- +goose Down
DROP INDEX frames_marked;
ALTER TABLE frames DROP COLUMN seen;
