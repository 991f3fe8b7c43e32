package e2e

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"rotanex.example/api"
	"rotanex.example/service/postgres"
	"rotanex.example/service/testdb"
)

const (
	benchAgents = 200
	benchFrames = 6000
)

// BenchmarkQueue has 200 simulated agents lease frames, send a small picture and
// hand them in over HTTP until a run of 6,000 frames is done; then it lets pgbench
// do the same statements on the rows of another such run, on the same server. It
// reports both speeds and their ratio.
func BenchmarkQueue(b *testing.B) {
	require.NoError(b, testdb.Sync(b.Context(), true))
	for b.Loop() {
		h, plan, run, agents := benchHouse(b)
		began := time.Now()
		var done atomic.Int64
		var all sync.WaitGroup
		for _, a := range agents {
			all.Go(func() { a.work(b, &done) })
		}
		all.Wait()
		ours := benchFrames / time.Since(began).Seconds()
		require.Equal(b, int64(benchFrames), done.Load())
		require.Equal(b, api.RunStateComplete, h.run(run).State)
		theirs := pgbench(b, h, plan)
		b.ReportMetric(ours, "frames/s")
		b.ReportMetric(theirs, "pgbench-frames/s")
		b.ReportMetric(ours/theirs, "ratio")
		b.ReportMetric(0, "ns/op")
	}
}

// benchHouse is a service with 200 hosts alike, and a run that needs them all.
func benchHouse(b *testing.B) (*house, api.Plan, api.Run, []hand) {
	b.Helper()
	h := newHouse(b, faster)
	h.client = &http.Client{Transport: &http.Transport{MaxIdleConns: 2 * benchAgents, MaxIdleConnsPerHost: 2 * benchAgents}}
	agents := make([]hand, benchAgents)
	for i := range agents {
		spec := eddy
		spec.Name = fmt.Sprintf("host-%03d", i)
		agents[i] = h.hand(spec)
	}
	h.putShot("coda-060", fmt.Sprintf("1-%d", benchFrames), nil)
	h.trialByHand(agents[0], "coda-060", "host-000", "g0")
	for _, a := range agents {
		a.beat()
	}
	plan, run := h.started(time.Duration(benchFrames/benchAgents*10)*time.Second+5*time.Second, "coda-060")
	return h, plan, run, agents
}

// work is an agent's loop: until the run has no frame left for it.
func (a hand) work(b *testing.B, done *atomic.Int64) {
	data := frame(64, 36)
	for done.Load() < benchFrames {
		leases := must[[]api.Lease](b)(a.Lease(b.Context(), api.LeaseRequest{Boot: a.boot, Held: []api.Held{}, WaitS: 1}))
		for _, l := range leases {
			must[struct{}](b)(a.send(l, data))
			must[struct{}](b)(a.done(l, data))
			done.Add(1)
		}
	}
}

// benchScript is one frame's life in the service's own statements.
const benchScript = `
\set turn random(0, 7)
BEGIN;
SELECT 'host-' || lpad((:client_id::int + 24 * :turn::int)::text, 3, '0') AS host \gset
SELECT draining, boot, (spec->>'memory_gb')::float8 FROM hosts WHERE name = :host FOR UPDATE;
SELECT id FROM frames WHERE host = :host AND state = 'rendering' AND boot <> '%[2]s' FOR UPDATE;
SELECT f.id, s.spec FROM frames f JOIN run_shots s USING (run_id, shot) WHERE f.host = :host AND f.state = 'rendering' ORDER BY f.id;
SELECT b.id, b.devices, s.spec FROM bookings b JOIN runs r ON r.id = b.run_id JOIN run_shots s ON s.run_id = b.run_id AND s.shot = b.shot
	WHERE b.host = :host AND b.open AND r.state = 'running' ORDER BY r.kind DESC, b.start_at, b.id LIMIT 1;
SELECT id AS frame FROM frames WHERE run_id = '%[1]s' AND shot = 'coda-060' AND state = 'waiting'
	ORDER BY warm_up DESC, frame LIMIT 1 FOR UPDATE SKIP LOCKED \gset
WITH leased AS (UPDATE frames SET state = 'rendering', fence = fence + 1, host = :host, crew = 'g0', devices = '["g0"]', booking_id = 1,
		boot = '%[2]s', leased_at = now(), lease_until = now() + interval '1 hour', progress = 0, sha256 = NULL, bytes = NULL WHERE id = :frame RETURNING *),
	counted AS (UPDATE bookings SET taken = taken + 1 WHERE run_id = '%[1]s' AND host = :host)
	SELECT f.id, s.spec FROM leased f JOIN run_shots s USING (run_id, shot);
INSERT INTO events (run_id, data, at) VALUES ('%[1]s', '{"kind":"frame","shot":"coda-060","frame":1,"host":"host-000","crew":"g0","state":"rendering"}', now());
COMMIT;
SELECT f.run_id, s.spec FROM frames f JOIN run_shots s USING (run_id, shot) WHERE f.id = :frame AND f.state IN ('rendering', 'done');
UPDATE frames SET sha256 = repeat('a', 64), bytes = 200 WHERE id = :frame AND state = 'rendering';
BEGIN;
SELECT id FROM frames WHERE id = :frame AND state = 'rendering' FOR UPDATE;
UPDATE frames SET state = 'done', done_at = now(), seconds = 10, lease_until = NULL, progress = 1 WHERE id = :frame;
INSERT INTO tries (frame_id, run_id, fence, host, crew, outcome, started_at, ended_at, seconds, measured)
	VALUES (:frame, '%[1]s', 1, :host, 'g0', 'done', now(), now(), 10, '{"seconds":10}');
INSERT INTO events (run_id, data, at) VALUES ('%[1]s', '{"kind":"frame","shot":"coda-060","frame":1,"host":"host-000","crew":"g0","state":"done"}', now());
COMMIT;
SELECT EXISTS (SELECT 1 FROM frames WHERE run_id = '%[1]s' AND shot = 'coda-060' AND state = 'waiting');
`

var tps = regexp.MustCompile(`tps = ([0-9.]+)`)

// pgbench returns how many frames' worth of statements PostgreSQL does in a second
// by itself, with as many connections as the service has.
func pgbench(b *testing.B, h *house, plan api.Plan) float64 {
	b.Helper()
	run := must[api.Run](b)(h.admin().StartRun(b.Context(), &api.StartRunParams{}, api.StartRunJSONRequestBody{Plan: plan.Id}))
	folder, err := postgres.Programs()
	require.NoError(b, err)
	script := filepath.Join(b.TempDir(), "frame.sql")
	require.NoError(b, os.WriteFile(script, fmt.Appendf(nil, benchScript, run.Id, uuid.New()), 0o600))
	ctx, cancel := context.WithTimeout(b.Context(), 5*time.Minute)
	defer cancel()
	const clients = 24
	out, err := exec.CommandContext(ctx, filepath.Join(folder, "pgbench"), "-n", "-M", "prepared", "-c", strconv.Itoa(clients), "-j", "2",
		"-t", strconv.Itoa(benchFrames/clients), "-f", script, h.database).CombinedOutput()
	require.NoError(b, err, "%s", out)
	m := tps.FindSubmatch(out)
	require.NotNil(b, m, "%s", out)
	speed, err := strconv.ParseFloat(string(m[1]), 64)
	require.NoError(b, err)
	return speed
}
