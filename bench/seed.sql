-- Hosts with agents' tokens, ended runs, and one run that runs. Everything is as a service would have stored it.
--   agents        hosts, bench-agent-N being the secret of host-N; the first :rendering are booked
--   frames        of the run, in :shots shots
--   booked        1: each crew is booked for its part of the frames; 0: for none, so that all of them only help
--   ended         runs that ended before, of :ended_frames frames each
BEGIN;
INSERT INTO hosts (name, source, spec, launchers, findings, missing, renderers, boot, agent_seen)
SELECT name, 'loft', jsonb_build_object('name', name, 'source', 'loft', 'cpu', '{"model": "Keel 24", "cores": 24}'::jsonb, 'memory_gb', 128,
		'devices', '[{"id": "g0", "model": "Topsail 24", "memory_gb": 24, "backends": ["compute2"], "link_width": 16, "watts": 420}]'::jsonb),
	'["simulated"]', '[]', '[]', '[]', md5('boot-' || n)::uuid, now()
FROM (SELECT n, 'host-' || lpad(n::text, 4, '0') AS name FROM generate_series(1, :agents) n) h;

INSERT INTO tokens (kind, name, role, host, hash, created_at)
SELECT 'agent', 'host-' || lpad(n::text, 4, '0'), 'agent', 'host-' || lpad(n::text, 4, '0'), sha256(('bench-agent-' || n)::bytea), now() FROM generate_series(1, :agents) n;

CREATE TEMPORARY TABLE spec AS SELECT '{"scene": "coda/coda.yaml", "width": 64, "height": 36, "launcher": "simulated", "host_memory_gb": 1}'::jsonb AS spec;

CREATE TEMPORARY TABLE made AS
SELECT gen_random_uuid() AS id, n, now() - (n + 1) * interval '1 hour' AS at FROM generate_series(1, :ended) n;

INSERT INTO runs (id, kind, request, state, tries, created_at, ended_at, policy)
SELECT id, 'run', '', 'complete', 3, at, at + interval '50 minutes', 'off' FROM made;
-- What they came to is written down, as the service does once a run is over.
INSERT INTO settled (run_id, part, seal, what) SELECT id, 'run', 'made up', '{}' FROM made;
INSERT INTO run_shots (run_id, shot, spec)
SELECT id, 'reel-' || lpad(n::text, 5, '0'), spec || jsonb_build_object('name', 'reel-' || lpad(n::text, 5, '0'), 'frames', '1-' || :ended_frames) FROM made, spec;
INSERT INTO bookings (run_id, shot, host, crew, devices, frames, taken, planned, start_at, end_at, frame_s, open)
SELECT id, 'reel-' || lpad(made.n::text, 5, '0'), 'host-' || lpad(h::text, 4, '0'), 'g0', '["g0"]', :ended_frames / 4, :ended_frames / 4, :ended_frames / 4, at, at + interval '50 minutes', 10, false
FROM made, generate_series(1, 4) h;
INSERT INTO frames (run_id, shot, frame, state, fence, host, crew, devices, leased_at, done_at, seconds, sha256, bytes, progress)
SELECT id, 'reel-' || lpad(made.n::text, 5, '0'), f, 'done', 1, 'host-0001', 'g0', '["g0"]', at, at + f * interval '10 seconds', 10, repeat('a', 64), 200, 1 FROM made, generate_series(1, :ended_frames) f;
INSERT INTO tries (frame_id, run_id, fence, host, crew, outcome, started_at, ended_at, seconds, measured)
SELECT id, run_id, 1, host, crew, 'done', leased_at, done_at, 10, '{"seconds": 10}' FROM frames;

CREATE TEMPORARY TABLE open AS SELECT gen_random_uuid() AS id;
INSERT INTO runs (id, kind, request, state, tries, created_at, policy) SELECT id, 'run', '', 'running', 3, now(), 'off' FROM open;
INSERT INTO run_shots (run_id, shot, spec)
SELECT id, 'coda-' || lpad(s::text, 3, '0'), spec || jsonb_build_object('name', 'coda-' || lpad(s::text, 3, '0'), 'frames', '1-' || (:frames / :shots)) FROM open, spec, generate_series(1, :shots) s;
INSERT INTO bookings (run_id, shot, host, crew, devices, frames, planned, start_at, end_at, frame_s, open)
SELECT id, 'coda-' || lpad(s::text, 3, '0'), 'host-' || lpad(h::text, 4, '0'), 'g0', '["g0"]', n, n, now() - interval '1 second', now() + interval '1 day', 10, true
FROM open, generate_series(1, :shots) s, generate_series(1, :rendering) h, (SELECT :booked * (:frames / :shots / :rendering + 1) AS n) x;
INSERT INTO frames (run_id, shot, frame) SELECT id, 'coda-' || lpad(s::text, 3, '0'), f FROM open, generate_series(1, :shots) s, generate_series(1, :frames / :shots) f;
COMMIT;
ANALYZE;
