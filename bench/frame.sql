\set turn random(0, :agents / 24 - 1)
BEGIN;
SELECT 'host-' || lpad((1 + :client_id::int + 24 * :turn::int)::text, 4, '0') AS host \gset
SELECT CASE WHEN draining THEN 'draining' ELSE trouble END, boot, spec, server, desk FROM hosts WHERE name = :host FOR UPDATE;
SELECT f.id, f.fence, s.spec FROM frames f JOIN run_shots s USING (run_id, shot) WHERE f.host = :host AND f.state = 'rendering' ORDER BY f.id;
SELECT b.id, b.devices, s.spec FROM bookings b JOIN runs r ON r.id = b.run_id JOIN run_shots s ON s.run_id = b.run_id AND s.shot = b.shot LEFT JOIN hosts h ON h.name = b.host
	LEFT JOIN servers v ON v.run_id = b.run_id AND v.host = b.host LEFT JOIN farm_jobs j ON j.booking_id = b.id WHERE b.host = :host AND b.open AND r.state = 'running' ORDER BY b.id;
SELECT id, warm_up, repeat, frame FROM frames WHERE run_id = :run::uuid AND shot = 'coda-001' AND state = 'waiting' AND NOT tried ORDER BY warm_up DESC, repeat, frame LIMIT 1;
SELECT DISTINCT ON (failed_on, only_on) id FROM frames WHERE run_id = :run::uuid AND shot = 'coda-001' AND state = 'waiting' AND tried ORDER BY failed_on, only_on, warm_up DESC, repeat, frame;
WITH next AS (SELECT id FROM frames WHERE run_id = :run::uuid AND shot = 'coda-001' AND state = 'waiting' AND NOT tried ORDER BY warm_up DESC, repeat, frame LIMIT 1 FOR UPDATE SKIP LOCKED),
	leased AS (UPDATE frames SET state = 'rendering', fence = fence + 1, host = :host, crew = 'g0', devices = '["g0"]', booking_id = 1,
		boot = gen_random_uuid(), leased_at = now(), lease_until = now() + interval '1 hour', progress = 0, sha256 = NULL, bytes = NULL FROM next WHERE frames.id = next.id RETURNING frames.*)
	SELECT f.id AS frame, s.spec FROM leased f JOIN run_shots s USING (run_id, shot) \gset
UPDATE bookings SET taken = taken + 1 WHERE run_id = :run::uuid AND shot = 'coda-001' AND host = :host;
INSERT INTO events (run_id, data, at) VALUES (:run::uuid, '{"kind":"frame","shot":"coda-001","frame":1,"host":"host-0001","crew":"g0","state":"rendering"}', now());
COMMIT;
SELECT f.id, s.spec FROM frames f JOIN run_shots s USING (run_id, shot) WHERE f.id = :frame AND f.host = :host AND f.state IN ('rendering', 'done');
UPDATE frames SET sha256 = repeat('a', 64), bytes = 200, picture = 'runs/x' WHERE id = :frame AND state = 'rendering' AND host = :host;
BEGIN;
SELECT id, (SELECT tries FROM runs WHERE runs.id = frames.run_id) FROM frames WHERE id = :frame AND state = 'rendering' AND host = :host FOR UPDATE;
UPDATE frames SET state = 'done', done_at = now(), seconds = 10, lease_until = NULL, progress = 1 WHERE id = :frame;
INSERT INTO tries (frame_id, run_id, fence, host, crew, outcome, started_at, ended_at, seconds, measured, booking_id)
	VALUES (:frame, :run::uuid, 1, :host, 'g0', 'done', now(), now(), 10, '{"seconds":10}', 1) ON CONFLICT DO NOTHING;
INSERT INTO events (run_id, data, at) VALUES (:run::uuid, '{"kind":"frame","shot":"coda-001","frame":1,"host":"host-0001","crew":"g0","state":"done"}', now());
COMMIT;
SELECT count(*) FROM (SELECT FROM frames WHERE run_id = :run::uuid AND shot = 'coda-001' AND state = 'waiting' ORDER BY tried, warm_up DESC, repeat, frame LIMIT 1) f;
