-- +goose Up
-- A frame whose light or colour jumps against those around it is marked in what was seen of it.
DROP INDEX frames_marked;
CREATE INDEX frames_marked ON frames (run_id) WHERE jsonb_exists(seen, 'not_finite') OR jsonb_exists(seen, 'flicker');

-- +goose Down
DROP INDEX frames_marked;
UPDATE frames SET seen = nullif(seen - 'flicker', '{}') WHERE jsonb_exists(seen, 'flicker');
CREATE INDEX frames_marked ON frames (run_id) WHERE jsonb_exists(seen, 'not_finite');
