package runs

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"gocloud.dev/blob"

	"rotanex.example/api"
	"rotanex.example/core/picture"
	"rotanex.example/service/access"
	"rotanex.example/service/edge"
	"rotanex.example/service/events"
)

// maxPicture is the largest file that is taken in.
const maxPicture = 2 << 30

// Heartbeat renews the leases that the agent holds and tells it which are not its
// own any more.
func (q *Runs) Heartbeat(w http.ResponseWriter, r *http.Request) {
	body, err := edge.Body[api.Heartbeat](r)
	out := api.HeartbeatAnswer{Revoked: []api.Held{}}
	host := access.From(r.Context()).Host
	if err == nil {
		out.Revoked, err = q.renew(r.Context(), host, body)
	}
	if err == nil {
		err = q.keepSeats(r.Context(), host)
	}
	if err == nil && q.Sampled != nil {
		err = q.Sampled(r.Context(), host, body.Samples)
	}
	if err == nil {
		out.Inputs, out.InputsSum, err = q.inputs(r.Context(), host, body)
	}
	edge.Answer(w, r, http.StatusOK, out, err)
}

// wantedInputs is the input files of all shots, as long as no shot changes.
type wantedInputs struct {
	mu    sync.Mutex
	of    string
	files []string
	sum   string
}

// wanted lists the files below the scene folder that shots need, with a sum over them.
func (q *Runs) wanted(ctx context.Context) ([]string, string, error) {
	w := &q.inputFiles
	w.mu.Lock()
	defer w.mu.Unlock()
	var of string
	if err := q.store.Pool.QueryRow(ctx, "SELECT concat(count(*), ' ', max(updated_at)) FROM shots").Scan(&of); err != nil || w.of == of {
		return w.files, w.sum, err
	}
	rows, err := q.store.Pool.Query(ctx, `
		SELECT DISTINCT file FROM (SELECT spec->>'scene' AS file FROM shots
			UNION SELECT jsonb_array_elements_text(coalesce(spec->'inputs', '[]')) FROM shots) AS files ORDER BY 1`)
	if err != nil {
		return nil, "", err
	}
	files, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err == nil {
		w.of, w.files, w.sum = of, files, fmt.Sprintf("%x", sha256.Sum256([]byte(strings.Join(files, "\x00"))))
	}
	return w.files, w.sum, err
}

// inputs takes in which input files the host lacks, and returns the list of those
// that shots need if the agent looked for others.
func (q *Runs) inputs(ctx context.Context, host string, beat api.Heartbeat) (wanted []string, sum string, err error) {
	if wanted, sum, err = q.wanted(ctx); err != nil {
		return nil, "", err
	}
	if beat.LookedFor != sum {
		return wanted, sum, nil
	}
	missing := beat.Missing
	if missing == nil {
		missing = []string{}
	}
	_, err = q.store.Pool.Exec(ctx, "UPDATE hosts SET looked_for = $2, missing = $3 WHERE name = $1 AND (looked_for <> $2 OR missing <> $3)", host, sum, missing)
	return nil, sum, err
}

func (q *Runs) renew(ctx context.Context, host string, beat api.Heartbeat) ([]api.Held, error) {
	now := q.clock.WallNow()
	tag, err := q.store.Pool.Exec(ctx, "UPDATE hosts SET agent_seen = $1 WHERE name = $2 AND boot = $3", now, host, beat.Boot)
	if err != nil {
		return nil, err
	}
	if tag.RowsAffected() == 0 {
		return nil, edge.Conflict("another agent reported for this host since; report its stock again")
	}
	revoked := []api.Held{}
	if len(beat.Held) == 0 {
		return revoked, nil
	}
	order(beat.Held)
	ids, fences, progress := make([]int64, len(beat.Held)), make([]int64, len(beat.Held)), make([]float64, len(beat.Held))
	for i, h := range beat.Held {
		ids[i], fences[i], progress[i] = h.Lease, h.Fence, float64(h.Progress)
	}
	rows, err := q.store.Pool.Query(ctx, `
		UPDATE frames f SET lease_until = $1, progress = h.progress
		FROM unnest($2::bigint[], $3::bigint[], $4::float8[]) AS h (id, fence, progress)
		WHERE f.id = h.id AND f.fence = h.fence AND f.state = 'leased' AND f.host = $5 AND f.boot = $6
		RETURNING f.id`, now.Add(LeaseLife), ids, fences, progress, host, beat.Boot)
	if err != nil {
		return nil, err
	}
	kept, err := pgx.CollectRows(rows, pgx.RowTo[int64])
	good := map[int64]bool{}
	for _, id := range kept {
		good[id] = true
	}
	for _, h := range beat.Held {
		if !good[h.Lease] {
			revoked = append(revoked, api.Held{Lease: h.Lease, Fence: h.Fence})
		}
	}
	return revoked, err
}

// stale is the answer to who no longer holds the lease.
func stale(lease, fence int64) error {
	return edge.Conflict(fmt.Sprintf("lease %d with fence %d is not held any more; nothing was changed", lease, fence))
}

// PutPicture stores the file of a lease: written aside, checked, and counted as
// there only when all of that is done.
func (q *Runs) PutPicture(w http.ResponseWriter, r *http.Request, lease, fence int64, params api.PutPictureParams) {
	edge.Done(w, r, q.keepPicture(r.Context(), access.From(r.Context()).Host, lease, fence, params.ContentDigest, r.Body))
}

func (q *Runs) keepPicture(ctx context.Context, host string, lease, fence int64, digest string, body io.Reader) error {
	want, err := base64.StdEncoding.DecodeString(strings.TrimSuffix(strings.TrimPrefix(digest, "sha-256=:"), ":"))
	if err != nil {
		return edge.BadField("Content-Digest", digest, "not base64")
	}
	f, spec, err := q.heldFrame(ctx, host, lease, fence)
	if err != nil {
		return err
	}
	key := blobKey(f, fence)
	size, info, err := q.storeChecked(ctx, key, body, want, spec)
	if err != nil {
		return err
	}
	tag, err := q.store.Pool.Exec(ctx, "UPDATE frames SET sha256 = $1, bytes = $2, format = $6 WHERE id = $3 AND fence = $4 AND state = 'leased' AND host = $5",
		hex.EncodeToString(want), size, lease, fence, host, info.Format)
	if err == nil && tag.RowsAffected() == 0 {
		// Done already, by this same lease: the picture is the same. Else it is nobody's.
		if again := q.repeated(ctx, lease, fence, hex.EncodeToString(want)); again {
			return nil
		}
		_ = q.blobs.Delete(context.WithoutCancel(ctx), key)
		err = stale(lease, fence)
	}
	return err
}

// heldFrame returns the frame of a lease that the host holds, or held until it
// handed the frame in.
func (q *Runs) heldFrame(ctx context.Context, host string, lease, fence int64) (f Frame, spec api.ShotSpec, err error) {
	err = q.store.Pool.QueryRow(ctx, `
		SELECT f.run_id, f.shot, f.frame, f.repeat, s.spec FROM frames f JOIN run_shots s USING (run_id, shot)
		WHERE f.id = $1 AND f.fence = $2 AND f.host = $3 AND f.state IN ('leased', 'done')`, lease, fence, host).
		Scan(&f.RunID, &f.Shot, &f.Frame, &f.Repeat, &spec)
	if err == pgx.ErrNoRows {
		err = stale(lease, fence)
	}
	return f, spec, err
}

func (q *Runs) storeChecked(ctx context.Context, key string, body io.Reader, want []byte, spec api.ShotSpec) (int64, picture.Info, error) {
	aside, cancel := context.WithCancel(ctx)
	defer cancel() // a writer that is not closed leaves nothing behind
	file, err := q.blobs.NewWriter(aside, key, &blob.WriterOptions{ContentType: "application/octet-stream", DisableContentTypeDetection: true})
	if err != nil {
		return 0, picture.Info{}, err
	}
	sum := sha256.New()
	size, err := io.Copy(io.MultiWriter(file, sum), io.LimitReader(body, maxPicture))
	if err == nil && string(sum.Sum(nil)) != string(want) {
		err = edge.BadField("Content-Digest", hex.EncodeToString(want), fmt.Sprintf("the %d bytes that arrived have SHA-256 %x", size, sum.Sum(nil)))
	}
	if err != nil {
		cancel()
		_ = file.Close()
		return 0, picture.Info{}, err
	}
	if err := file.Close(); err != nil {
		return 0, picture.Info{}, err
	}
	stored, err := q.blobs.NewReader(ctx, key, nil)
	if err != nil {
		return 0, picture.Info{}, err
	}
	defer func() { _ = stored.Close() }()
	info, err := picture.Check(stored, spec.Width, spec.Height)
	if err != nil {
		_ = q.blobs.Delete(ctx, key)
		return 0, info, edge.BadField("body", "", err.Error())
	}
	return size, info, nil
}

// repeated reports whether the frame was handed in under this very lease before.
func (q *Runs) repeated(ctx context.Context, lease, fence int64, sum string) bool {
	var same bool
	err := q.store.Pool.QueryRow(ctx, "SELECT fence = $2 AND sha256 = $3 AND state = 'done' FROM frames WHERE id = $1", lease, fence, sum).Scan(&same)
	return err == nil && same
}

// PutResult ends a lease: the frame is done, or its try failed.
func (q *Runs) PutResult(w http.ResponseWriter, r *http.Request, lease, fence int64) {
	body, err := edge.Body[api.Result](r)
	if err == nil {
		err = q.end(r.Context(), access.From(r.Context()).Host, lease, fence, body)
	}
	edge.Done(w, r, err)
}

func (q *Runs) end(ctx context.Context, host string, lease, fence int64, result api.Result) error {
	var ended *leased
	err := pgx.BeginFunc(ctx, q.store.Pool, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, "SELECT "+leasedColumns+" FROM frames WHERE id = $1 AND fence = $2 AND host = $3 AND state = 'leased' AND boot = $4 FOR UPDATE",
			lease, fence, host, result.Boot)
		if err != nil {
			return err
		}
		l, err := pgx.CollectExactlyOneRow(rows, scanLeased)
		if err == pgx.ErrNoRows {
			return q.endedBefore(ctx, tx, lease, fence, result)
		}
		if err != nil {
			return err
		}
		ended = &l
		if result.Outcome == api.ResultOutcomeFailed {
			if result.Cause == api.ResultCauseOutOfMemory {
				return q.ranOut(ctx, tx, l, result.LogTail, &result.Measured)
			}
			if err := q.barUnable(ctx, tx, l, result.Cause); err != nil {
				return err
			}
			return q.fail(ctx, tx, l, string(result.Cause), result.LogTail, &result.Measured)
		}
		if l.sha256 == nil || *l.sha256 != result.Sha256 {
			return edge.Conflict("the picture of this lease is not here, or is another one: send it first")
		}
		return q.finish(ctx, tx, l, result.Measured)
	})
	if err == nil && ended != nil {
		if ended.trial && q.TrialFrameDone != nil {
			if err := q.TrialFrameDone(ctx, ended.run); err != nil {
				q.log.Warn("looking whether a trial knows enough", "run", ended.run, "error", err)
			}
		}
		q.feed.Wake(events.Changes, events.Work)
		err = q.closeIfDone(ctx, *ended)
	}
	return err
}

// endedBefore answers a result for a lease that is not held: harmless if it is
// the same result again.
func (q *Runs) endedBefore(ctx context.Context, tx pgx.Tx, lease, fence int64, result api.Result) error {
	var outcome string
	err := tx.QueryRow(ctx, "SELECT outcome FROM attempts WHERE frame_id = $1 AND fence = $2", lease, fence).Scan(&outcome)
	if err == nil && outcome == string(result.Outcome) {
		return nil
	}
	if err != nil && err != pgx.ErrNoRows {
		return err
	}
	return stale(lease, fence)
}

// finish makes the frame done.
func (q *Runs) finish(ctx context.Context, tx pgx.Tx, l leased, m api.Measured) error {
	now := q.clock.Now()
	var b pgx.Batch
	b.Queue("UPDATE frames SET state = 'done', done_at = $2, seconds = $3, lease_until = NULL, progress = 1 WHERE id = $1", l.id, now, m.Seconds)
	q.note(&b, l, "done", "", "", now, m.Seconds, &m)
	if err := q.feed.Insert(&b, l.event(api.Event{At: now, State: "done", Seconds: m.Seconds})); err != nil {
		return err
	}
	return tx.SendBatch(ctx, &b).Close()
}

func (l leased) event(e api.Event) api.Event {
	e.Kind, e.Run, e.Shot, e.Frame, e.Host, e.Crew = api.EventKindFrame, l.run.String(), l.shot, l.frame, l.host, l.crew
	return e
}

// note keeps how a try ended.
func (q *Runs) note(b *pgx.Batch, l leased, outcome, cause, tail string, now time.Time, seconds float64, m *api.Measured) {
	b.Queue(`INSERT INTO attempts (frame_id, run_id, fence, host, crew, outcome, cause, log_tail, started_at, ended_at, seconds, measured, booking_id)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13)`,
		l.id, l.run, l.fence, l.host, l.crew, outcome, cause, strings.ToValidUTF8(strings.ReplaceAll(tail, "\x00", ""), ""), l.since, now, seconds, m, l.booking)
}

// fail counts a failed try. The frame waits again, for another crew if there is
// one, until it has failed as often as the run allows.
func (q *Runs) fail(ctx context.Context, tx pgx.Tx, l leased, cause, tail string, m *api.Measured) error {
	now := q.clock.Now()
	var state string
	if err := tx.QueryRow(ctx, `
		UPDATE frames SET state = CASE WHEN failures + 1 >= $2 THEN 'failed' ELSE 'waiting' END, failures = failures + 1,
		       failed_on = array_append(failed_on, host || '/' || crew), cause = $3, lease_until = NULL, boot = NULL, progress = 0
		WHERE id = $1 RETURNING state`, l.id, l.tries, cause).Scan(&state); err != nil {
		return err
	}
	return q.free(ctx, tx, l, "failed", cause, tail, state, now, m)
}

// lossesAllowed is how often, beyond its tries, a frame's agent may get lost
// before the frame is taken to be what kills it.
const lossesAllowed = 10

// lose ends a lease whose agent is gone. It is not the frame's failure.
func (q *Runs) lose(ctx context.Context, tx pgx.Tx, l leased, why string) error {
	now := q.clock.Now()
	var state string
	if err := tx.QueryRow(ctx, `
		UPDATE frames SET state = CASE WHEN fence >= $2 THEN 'failed' ELSE 'waiting' END, cause = 'agent-lost', lease_until = NULL, boot = NULL, progress = 0
		WHERE id = $1 RETURNING state`, l.id, l.tries+lossesAllowed).Scan(&state); err != nil {
		return err
	}
	return q.free(ctx, tx, l, "lost", "agent-lost", why, state, now, nil)
}

func (q *Runs) free(ctx context.Context, tx pgx.Tx, l leased, outcome, cause, tail, state string, now time.Time, m *api.Measured) error {
	seconds := now.Sub(l.since).Seconds()
	if m != nil && m.Seconds > 0 {
		seconds = m.Seconds
	}
	var b pgx.Batch
	b.Queue("UPDATE bookings SET taken = greatest(0, taken - 1) WHERE id = $1", l.booking)
	q.note(&b, l, outcome, cause, tail, now, seconds, m)
	if err := q.feed.Insert(&b, l.event(api.Event{At: now, State: state, Cause: cause})); err != nil {
		return err
	}
	return tx.SendBatch(ctx, &b).Close()
}

// closeIfDone ends the run of a frame if that was its last. Two last frames that
// end at once may each see the other open; Sweep closes such a run.
func (q *Runs) closeIfDone(ctx context.Context, l leased) error {
	var open bool
	err := q.store.Pool.QueryRow(ctx, `
		SELECT EXISTS (SELECT 1 FROM frames WHERE run_id = $1 AND shot = $2 AND state = 'waiting')`, l.run, l.shot).Scan(&open)
	if err != nil || open {
		return err
	}
	return q.closeRuns(ctx, &l.run)
}
