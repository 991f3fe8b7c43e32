-- A run as it stands when three fifths of it are done, and many that ended before, each like one that the service has made.
--   open      the run that runs
--   small     the run of one shot that the others are like
--   ended     how many
BEGIN;
UPDATE frames f SET state = 'done', fence = 1, host = b.host, crew = b.crew, devices = b.devices, booking_id = b.id, leased_at = now() - interval '2 hours', done_at = now() - random() * interval '2 hours',
	seconds = 8 + 4 * random(), sha256 = repeat('a', 64), bytes = 200, progress = 1
FROM bookings b WHERE f.run_id = :'open' AND f.frame % 5 < 3 AND b.id = (SELECT min(id) FROM bookings x WHERE x.run_id = f.run_id AND x.shot = f.shot AND x.frames > 0);
UPDATE frames SET state = 'failed', failures = 3, cause = CASE WHEN frame % 2 = 0 THEN 'timeout' ELSE 'out-of-memory' END, failed_on = '["host-0001/g0"]' WHERE run_id = :'open' AND frame % 333 = 4 AND state = 'waiting';
UPDATE bookings b SET taken = (SELECT count(*) FROM frames f WHERE f.booking_id = b.id) WHERE run_id = :'open';
UPDATE frames SET state = 'done', fence = 1, host = 'host-0001', crew = 'g0', devices = '["g0"]', booking_id = (SELECT min(id) FROM bookings WHERE run_id = :'small'), leased_at = now() - interval '1 hour',
	done_at = now(), seconds = 10, sha256 = repeat('a', 64), bytes = 200, progress = 1 WHERE run_id = :'small';
INSERT INTO tries (frame_id, run_id, fence, host, crew, outcome, started_at, ended_at, seconds, measured, booking_id)
SELECT id, run_id, 1, host, crew, 'done', done_at - seconds * interval '1 second', done_at, seconds, jsonb_build_object('seconds', seconds), booking_id FROM frames WHERE state = 'done' AND run_id IN (:'open', :'small');
INSERT INTO tries (frame_id, run_id, fence, host, crew, outcome, cause, started_at, ended_at, seconds, booking_id)
SELECT id, run_id, 1, 'host-0001', 'g0', 'failed', cause, now(), now(), 3, 1 FROM frames WHERE state = 'failed';
UPDATE runs SET state = 'complete', ended_at = now() WHERE id = :'small';
UPDATE bookings SET open = false, taken = frames WHERE run_id = :'small';

CREATE TEMPORARY TABLE made AS SELECT gen_random_uuid() AS run, gen_random_uuid() AS plan, n, now() - n * interval '2 hours' AS at FROM generate_series(1, :ended) n;
INSERT INTO plans (id, created_at, request, shots, status, cost, cost_bound, currency, problem, plan, notes, chance)
SELECT made.plan, made.at, p.request, p.shots, p.status, p.cost, p.cost_bound, p.currency, p.problem, p.plan, p.notes, p.chance FROM made, plans p JOIN runs r ON r.plan_id = p.id WHERE r.id = :'small';
INSERT INTO runs (id, kind, plan_id, request, state, tries, created_at, ended_at, cap, policy)
SELECT made.run, r.kind, made.plan, r.request, r.state, r.tries, made.at, made.at + interval '1 hour', r.cap, r.policy FROM made, runs r WHERE r.id = :'small';
INSERT INTO run_plans (run_id, plan_id, at) SELECT run, plan, at FROM made;
INSERT INTO run_shots (run_id, shot, spec) SELECT made.run, s.shot, s.spec FROM made, run_shots s WHERE s.run_id = :'small';
INSERT INTO bookings (run_id, shot, host, crew, devices, frames, taken, planned, start_at, end_at, frame_s, open)
SELECT made.run, b.shot, b.host, b.crew, b.devices, b.frames, b.frames, b.planned, made.at, made.at + interval '1 hour', b.frame_s, false FROM made, bookings b WHERE b.run_id = :'small';
INSERT INTO frames (run_id, shot, frame, state, fence, host, crew, devices, leased_at, done_at, seconds, sha256, bytes, progress, booking_id)
SELECT made.run, f.shot, f.frame, f.state, 1, f.host, f.crew, f.devices, made.at, made.at + f.frame * interval '10 seconds', 10, f.sha256, f.bytes, 1, (SELECT min(id) FROM bookings b WHERE b.run_id = made.run)
FROM made, frames f WHERE f.run_id = :'small';
INSERT INTO tries (frame_id, run_id, fence, host, crew, outcome, started_at, ended_at, seconds, measured, booking_id)
SELECT f.id, f.run_id, 1, f.host, f.crew, 'done', f.leased_at, f.done_at, 10, '{"seconds": 10}', f.booking_id FROM frames f JOIN made ON made.run = f.run_id;
COMMIT;
ANALYZE;
