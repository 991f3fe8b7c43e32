-- +goose Up

-- One word for one thing: states, columns and keys take the names that they have everywhere.

-- +goose StatementBegin
CREATE FUNCTION rotanex_renamed(j jsonb, names jsonb) RETURNS jsonb LANGUAGE sql IMMUTABLE AS $$
    SELECT CASE jsonb_typeof(j)
        WHEN 'object' THEN (SELECT coalesce(jsonb_object_agg(coalesce(names->>key, key), rotanex_renamed(value, names)), '{}') FROM jsonb_each(j))
        WHEN 'array' THEN (SELECT coalesce(jsonb_agg(rotanex_renamed(value, names) ORDER BY n), '[]') FROM jsonb_array_elements(j) WITH ORDINALITY AS e (value, n))
        ELSE j END
$$;
-- +goose StatementEnd

UPDATE hosts SET spec = rotanex_renamed(spec, '{"mains": "on_ac_power", "held_gb": "in_use_gb", "write_off_hour": "depreciation_h"}');
UPDATE offers SET spec = rotanex_renamed(spec, '{"price_hour": "price_h", "lead_s": "boot_s", "wrap_s": "shutdown_s", "held_gb": "in_use_gb", "write_off_hour": "depreciation_h"}');
UPDATE farms SET spec = rotanex_renamed(spec, '{"least": "minimum_charge", "single_user": "named_user", "write_off_hour": "depreciation_h"}');
UPDATE sources SET spec = rotanex_renamed(spec, '{"least": "minimum_charge"}');
UPDATE shots SET spec = rotanex_renamed(spec, '{"passes": "buffers"}');
UPDATE run_shots SET spec = rotanex_renamed(spec, '{"passes": "buffers"}');
UPDATE shots SET spec = rotanex_renamed(spec, '{"noise_threshold": "adaptive_error", "denoiser": "denoise", "denoise_on": "denoise_device", "tile": "bucket"}') WHERE spec->>'launcher' = 'standin';
UPDATE run_shots SET spec = rotanex_renamed(spec, '{"noise_threshold": "adaptive_error", "denoiser": "denoise", "denoise_on": "denoise_device", "tile": "bucket"}') WHERE spec->>'launcher' = 'standin';
DROP FUNCTION rotanex_renamed;

-- The simulated renderer and its settings.
UPDATE shots SET spec = jsonb_set(spec, '{launcher}', '"simulated"') WHERE spec->>'launcher' = 'standin';
UPDATE run_shots SET spec = jsonb_set(spec, '{launcher}', '"simulated"') WHERE spec->>'launcher' = 'standin';
UPDATE hosts SET launchers = replace(launchers::text, '"standin"', '"simulated"')::jsonb, renderers = replace(renderers::text, '"standin"', '"simulated"')::jsonb;
UPDATE offers SET spec = replace(spec::text, '"standin"', '"simulated"')::jsonb;
UPDATE farms SET spec = replace(spec::text, '"standin"', '"simulated"')::jsonb;

ALTER TABLE licences DROP CONSTRAINT licences_kind_check;
UPDATE licences SET kind = CASE kind WHEN 'single-user' THEN 'named-user' WHEN 'host' THEN 'node-locked' ELSE kind END;
ALTER TABLE licences ADD CONSTRAINT licences_kind_check CHECK (kind IN ('floating', 'named-user', 'node-locked'));

ALTER TABLE frames DROP CONSTRAINT frames_state_check;
DROP INDEX frames_leased;
UPDATE frames SET state = 'rendering' WHERE state = 'leased';
ALTER TABLE frames ADD CONSTRAINT frames_state_check CHECK (state IN ('waiting', 'rendering', 'done', 'failed'));
CREATE INDEX frames_rendering ON frames (host, run_id) WHERE state = 'rendering';
UPDATE events SET data = jsonb_set(data, '{state}', '"rendering"') WHERE data->>'state' = 'leased';

ALTER TABLE servers DROP CONSTRAINT servers_state_check;
UPDATE servers SET state = CASE state WHEN 'never' THEN 'not-started' WHEN 'asked' THEN 'requested' ELSE state END;
ALTER TABLE servers ADD CONSTRAINT servers_state_check CHECK (state IN ('planned', 'requested', 'starting', 'up', 'stopping', 'ending', 'stopped', 'not-started'));
DROP INDEX servers_open;
CREATE INDEX servers_open ON servers (from_at) WHERE state NOT IN ('stopped', 'not-started');

ALTER TABLE farm_jobs DROP CONSTRAINT farm_jobs_state_check;
UPDATE farm_jobs SET state = 'not-started' WHERE state = 'never';
ALTER TABLE farm_jobs ADD CONSTRAINT farm_jobs_state_check CHECK (state IN ('planned', 'sending', 'analysing', 'queued', 'proofing', 'held', 'rendering', 'rejected', 'refused', 'closing', 'ended', 'not-started'));
DROP INDEX farm_jobs_open;
CREATE INDEX farm_jobs_open ON farm_jobs (from_at) WHERE state NOT IN ('ended', 'not-started');

UPDATE attempts SET measured = jsonb_set(measured, '{conditions,power}', '"ac"') WHERE measured #>> '{conditions,power}' = 'mains';
ALTER TABLE bookings RENAME COLUMN barred TO excluded;
ALTER TABLE attempts RENAME TO tries;

-- +goose Down
ALTER TABLE tries RENAME TO attempts;
ALTER TABLE bookings RENAME COLUMN excluded TO barred;
DROP INDEX farm_jobs_open;
ALTER TABLE farm_jobs DROP CONSTRAINT farm_jobs_state_check;
UPDATE farm_jobs SET state = 'never' WHERE state = 'not-started';
ALTER TABLE farm_jobs ADD CONSTRAINT farm_jobs_state_check CHECK (state IN ('planned', 'sending', 'analysing', 'queued', 'proofing', 'held', 'rendering', 'rejected', 'refused', 'closing', 'ended', 'never'));
CREATE INDEX farm_jobs_open ON farm_jobs (from_at) WHERE state NOT IN ('ended', 'never');
DROP INDEX servers_open;
ALTER TABLE servers DROP CONSTRAINT servers_state_check;
UPDATE servers SET state = CASE state WHEN 'not-started' THEN 'never' WHEN 'requested' THEN 'asked' ELSE state END;
ALTER TABLE servers ADD CONSTRAINT servers_state_check CHECK (state IN ('planned', 'asked', 'starting', 'up', 'stopping', 'ending', 'stopped', 'never'));
CREATE INDEX servers_open ON servers (from_at) WHERE state NOT IN ('stopped', 'never');
DROP INDEX frames_rendering;
ALTER TABLE frames DROP CONSTRAINT frames_state_check;
UPDATE frames SET state = 'leased' WHERE state = 'rendering';
ALTER TABLE frames ADD CONSTRAINT frames_state_check CHECK (state IN ('waiting', 'leased', 'done', 'failed'));
CREATE INDEX frames_leased ON frames (host, run_id) WHERE state = 'leased';
ALTER TABLE licences DROP CONSTRAINT licences_kind_check;
UPDATE licences SET kind = CASE kind WHEN 'named-user' THEN 'single-user' WHEN 'node-locked' THEN 'host' ELSE kind END;
ALTER TABLE licences ADD CONSTRAINT licences_kind_check CHECK (kind IN ('floating', 'single-user', 'host'));
UPDATE shots SET spec = jsonb_set(spec, '{launcher}', '"standin"') WHERE spec->>'launcher' = 'simulated';
UPDATE run_shots SET spec = jsonb_set(spec, '{launcher}', '"standin"') WHERE spec->>'launcher' = 'simulated';
