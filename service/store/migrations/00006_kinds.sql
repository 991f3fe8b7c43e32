-- +goose Up

-- Where a frame failed and who alone may have it are lists as all others are. Waiting
-- frames that were tried are looked for by themselves: they are few.
ALTER TABLE frames
    ALTER COLUMN failed_on DROP DEFAULT, ALTER COLUMN failed_on TYPE jsonb USING to_jsonb(failed_on), ALTER COLUMN failed_on SET DEFAULT '[]',
    ALTER COLUMN only_on DROP DEFAULT, ALTER COLUMN only_on TYPE jsonb USING to_jsonb(only_on), ALTER COLUMN only_on SET DEFAULT '[]';
DROP INDEX frames_waiting;
CREATE INDEX frames_waiting ON frames (run_id, shot, warm_up DESC, repeat, frame) WHERE state = 'waiting' AND failures = 0;
CREATE INDEX frames_tried ON frames (run_id, shot, failed_on, only_on) WHERE state = 'waiting' AND failures > 0;

-- +goose Down
DROP INDEX frames_tried;
DROP INDEX frames_waiting;
CREATE INDEX frames_waiting ON frames (run_id, shot, warm_up DESC, repeat, frame) WHERE state = 'waiting';
CREATE FUNCTION rotanex_texts(jsonb) RETURNS text[] LANGUAGE sql IMMUTABLE AS 'SELECT coalesce(array_agg(x), ''{}'') FROM jsonb_array_elements_text($1) x';
ALTER TABLE frames
    ALTER COLUMN failed_on DROP DEFAULT, ALTER COLUMN failed_on TYPE text[] USING rotanex_texts(failed_on), ALTER COLUMN failed_on SET DEFAULT '{}',
    ALTER COLUMN only_on DROP DEFAULT, ALTER COLUMN only_on TYPE text[] USING rotanex_texts(only_on), ALTER COLUMN only_on SET DEFAULT '{}';
DROP FUNCTION rotanex_texts;
