package queue

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/core/dispatch"
	"rotanex.example/core/frames"
	"rotanex.example/core/picture"
	"rotanex.example/core/timing"
	"rotanex.example/service/bookings"
	"rotanex.example/service/framefiles"
	"rotanex.example/service/pictures"
	"rotanex.example/service/shots"
	"rotanex.example/service/store"
	"rotanex.example/service/tries"
	"rotanex.example/service/turn"
)

// Frame is one frame of a run.
type Frame struct {
	ID       int64 `gorm:"primaryKey"`
	RunID    uuid.UUID
	Shot     string
	Frame    int
	WarmUp   bool
	Repeat   int
	State    State `gorm:"default:waiting"`
	Failures int
	Cause    string
	Fence    int64
	Host     *string
	Crew     *string
	LeasedAt *time.Time
	Progress float64
	DoneAt   *time.Time
	Seconds  *float64
	SHA256   *string `gorm:"column:sha256"`
	Picture  string  // key of its file; "" of before that was kept
	Bytes    *int64
	Format   string         `gorm:"default:png"`
	Seen     *pictures.Seen `gorm:"serializer:json"`            // of its file; nil: nothing beside its format
	FailedOn []string       `gorm:"serializer:json;default:[]"` // places where it failed
	OnlyOn   []string       `gorm:"serializer:json;default:[]"` // places that alone may have it; none: all
	Begun    bool           `gorm:"default:true"`               // false: of a frame under lease that waits in its start
	Start    int64          // the first frame of the start that has it, of one with several frames
	// FromRun is the run that did it, of a frame that was taken over done.
	FromRun *uuid.UUID
}

// Key is where the picture of the frame is stored.
func (f Frame) Key() string { return cmp.Or(f.Picture, f.leaseKey()) }

// keyFor is where a picture of a lease is stored. Each lease has keys of its own, and each picture, so that neither a late
// answer nor a second, different one touches the picture that counts.
func (f Frame) keyFor(sum []byte) string { return fmt.Sprintf("%s-%x", f.leaseKey(), sum[:8]) }

func (f Frame) leaseKey() string {
	return pictures.KeyOf(*cmp.Or(f.FromRun, &f.RunID), f.Shot, f.Frame, f.Fence, f.Repeat)
}

// Asked is frames of a shot that are to be rendered.
type Asked struct {
	Shot    string
	Frames  frames.Set
	WarmUp  bool
	Repeats int // of each frame; 0 is 1
}

// Count is how many there are.
func (a Asked) Count() int { return a.Frames.Len() * max(a.Repeats, 1) }

// Add has frames wait in a run; those that do already are left as they are.
func Add(tx *gorm.DB, run uuid.UUID, all ...Asked) error {
	for _, a := range all {
		if err := tx.Exec("INSERT INTO frames (run_id, shot, frame, warm_up, repeat, state) SELECT $1, $2, n, $4, r, 'waiting' FROM generate_series(0, $5::int - 1) r, unnest($3::int[]) n ORDER BY r, n ON CONFLICT DO NOTHING",
			run, a.Shot, slices.Collect(a.Frames.All()), a.WarmUp, max(a.Repeats, 1)).Error; err != nil {
			return err
		}
	}
	return nil
}

// TakeOver adds frames to a run that another run has done, as they are; it returns how many
// of them it found done.
func TakeOver(tx *gorm.DB, run, from uuid.UUID, shot string, numbers []int) (int, error) {
	done := tx.Exec(`INSERT INTO frames (run_id, shot, frame, state, fence, host, crew, done_at, seconds, sha256, bytes, format, picture, seen, from_run)
		SELECT $1, shot, frame, 'done', fence, host, crew, done_at, seconds, sha256, bytes, format, picture, seen, coalesce(from_run, run_id) FROM frames
		WHERE run_id = $2 AND shot = $3 AND frame = ANY($4) AND state = 'done' AND NOT warm_up AND repeat = 0`, run, from, shot, numbers)
	if done.Error != nil {
		return 0, done.Error
	}
	return int(done.RowsAffected), framefiles.TakeOver(tx, run, from, shot, numbers)
}

// TryAgain lets the failed frames of a run wait again, on every crew, as if they had
// never failed, and opens its bookings.
func TryAgain(tx *gorm.DB, run uuid.UUID) error {
	if err := tx.Exec("UPDATE frames SET state = 'waiting', failures = 0, failed_on = '[]', only_on = '[]', memory_mode = '', forgiven = (SELECT coalesce(max(id), 0) FROM tries) WHERE run_id = $1 AND state = 'failed'", run).Error; err != nil {
		return err
	}
	return errors.Join(Block(tx, run), bookings.Reopen(tx, run))
}

// Revoke ends all leases of a run; its agents learn of it at their next heartbeat.
func Revoke(tx *gorm.DB, run uuid.UUID, now time.Time) error {
	err := tries.NoteRevoked(tx, run, now)
	return errors.Join(err, tx.Exec("UPDATE frames SET state = 'waiting', begun = true, start = 0, lease_until = NULL, boot = NULL, progress = 0 WHERE run_id = $1 AND state = 'rendering'", run).Error)
}

// DropWaiting forgets the frames of a trial that wait: it knows enough.
func DropWaiting(tx *gorm.DB, run uuid.UUID) error {
	return tx.Exec("DELETE FROM frames WHERE run_id = $1 AND state = 'waiting' AND NOT warm_up", run).Error
}

// Delete deletes up to so many frames of a run, with their tries, and says how many there were.
func Delete(tx *gorm.DB, run uuid.UUID, most int) (int64, error) {
	done := tx.Exec("DELETE FROM frames WHERE id IN (SELECT id FROM frames WHERE run_id = $1 LIMIT $2)", run, most)
	return done.RowsAffected, done.Error
}

const leasedColumns = `id, fence, run_id, shot, frame, host, crew, booking_id, leased_at, warm_up, sha256,
	(SELECT tries FROM runs WHERE runs.id = frames.run_id), (SELECT kind = 'trial' FROM runs WHERE runs.id = frames.run_id), (SELECT chained FROM runs WHERE runs.id = frames.run_id), devices, memory_mode, boot, start, begun`

// leased is a frame under lease, as it is ended.
type leased struct {
	id, fence int64
	run       uuid.UUID
	shot      string
	frame     int
	host      string
	crew      string
	booking   int64
	since     time.Time
	warmUp    bool
	sha256    *string
	tries     int
	trial     bool
	chained   bool // some of its run need the frames of others
	devices   []string
	mode      string // of memory, see Lease
	boot      uuid.UUID
	start     int64 // see Frame
	begun     bool
}

func scanLeased(row store.Row) (l leased, err error) {
	return l, row.Scan(&l.id, &l.fence, &l.run, &l.shot, &l.frame, &l.host, &l.crew, &l.booking, &l.since, &l.warmUp, &l.sha256, &l.tries, &l.trial, &l.chained,
		store.JSON(&l.devices), &l.mode, &l.boot, &l.start, &l.begun)
}

// leases reads and locks frames under lease.
func leases(tx *gorm.DB, where string, args ...any) ([]leased, error) {
	return store.Rows(tx.Raw("SELECT "+leasedColumns+" FROM frames WHERE state = 'rendering' AND "+where, args...), scanLeased)
}

// overdue are leases not renewed by $1; where $2, those of hosts that were silent for $3 s when anybody was heard of last.
const overdue = `lease_until < $1 AND (NOT $2 OR EXISTS (SELECT FROM hosts h WHERE h.name = frames.host
	AND h.agent_seen < (SELECT max(agent_seen) FROM hosts) - make_interval(secs => $3))) ORDER BY id FOR UPDATE SKIP LOCKED`

// note keeps how a try ended.
func note(tx *gorm.DB, l leased, outcome, cause, tail string, now time.Time, seconds float64, m *timing.Measurement) error {
	from := l.since
	if m != nil && l.start != 0 { // it was handed in behind the renderer's back
		from = now.Add(-time.Duration(seconds * float64(time.Second)))
	}
	return tries.Note(tx, tries.Try{
		Frame: l.id, Fence: l.fence, Run: l.run, Host: l.host, Crew: l.crew, Booking: l.booking, Outcome: outcome, Cause: cause, Tail: tail, From: from, To: now, Seconds: seconds, Measured: m,
	})
}

// notePicture notes that the picture of a lease is stored; false: it is not held any more.
func (q *Queue) notePicture(ctx context.Context, host string, lease, fence int64, sum string, size int64, info picture.Info, key string) (bool, error) {
	done := q.store.WithContext(ctx).Exec("UPDATE frames SET sha256 = $1, bytes = $2, format = $6, picture = $7, seen = $8 WHERE id = $3 AND fence = $4 AND state = 'rendering' AND host = $5",
		sum, size, lease, fence, host, info.Format, key, pictures.SeenOf(info))
	return done.RowsAffected > 0, done.Error
}

// heldFrame returns the frame of a lease that the host holds, or held until it
// handed the frame in.
func (q *Queue) heldFrame(ctx context.Context, host string, lease, fence int64) (f Frame, spec shots.Spec, err error) {
	f, spec, err = q.frameWith(ctx, "f.id = $1 AND f.fence = $2 AND f.host = $3 AND f.state IN ('rendering', 'done')", lease, fence, host)
	if store.Missing(err) {
		err = stale(lease, fence)
	}
	return f, spec, err
}

// heldBy reads the frame that a holder has under lease, with its shot; false: it has not.
func (q *Queue) heldBy(ctx context.Context, holder uuid.UUID, frame int) (f Frame, spec shots.Spec, found bool, err error) {
	f, spec, err = q.frameWith(ctx, "f.boot = $1 AND f.frame = $2 AND f.state = 'rendering'", holder, frame)
	return f, spec, err == nil, store.Unless(store.Missing, err)
}

func (q *Queue) frameWith(ctx context.Context, where string, args ...any) (f Frame, spec shots.Spec, err error) {
	return f, spec, q.store.WithContext(ctx).Raw("SELECT f.id, f.run_id, f.shot, f.frame, f.repeat, f.fence, s.spec FROM frames f JOIN run_shots s USING (run_id, shot) WHERE "+where, args...).Row().
		Scan(&f.ID, &f.RunID, &f.Shot, &f.Frame, &f.Repeat, &f.Fence, store.JSON(&spec))
}

// repeated reports whether the frame was handed in under this very lease before.
func (q *Queue) repeated(ctx context.Context, lease, fence int64, sum string) bool {
	var same bool
	err := q.store.WithContext(ctx).Raw("SELECT fence = $2 AND sha256 = $3 AND state = 'done' FROM frames WHERE id = $1", lease, fence, sum).Row().Scan(&same)
	return err == nil && same
}

// endedBefore answers a result for a lease that is not held: harmless if it is
// the same result again.
func endedBefore(tx *gorm.DB, lease, fence int64, r Result) error {
	outcome, err := tries.OutcomeOf(tx, lease, fence)
	if err == nil && outcome == r.outcome() {
		return nil
	}
	if err != nil && !store.Missing(err) {
		return err
	}
	return stale(lease, fence)
}

// fail counts a failed try. The frame waits again, for another crew if there is
// one, until it has failed as often as the run allows.
func (q *Queue) fail(tx *gorm.DB, l leased, cause, tail string, m *timing.Measurement) error {
	var state string
	if err := tx.Raw(`
		UPDATE frames SET state = CASE WHEN failures + 1 >= $2 THEN 'failed' ELSE 'waiting' END, failures = failures + 1,
		       failed_on = failed_on || to_jsonb(host || '/' || crew), cause = $3, lease_until = NULL, boot = NULL, progress = 0
		WHERE id = $1 RETURNING state`, l.id, l.tries, cause).Row().Scan(&state); err != nil {
		return err
	}
	return q.free(tx, l, tries.Failed, cause, tail, state, m)
}

// lose ends a lease whose agent is gone. It is not the frame's failure.
func (q *Queue) lose(tx *gorm.DB, l leased, why string) error {
	if !l.begun {
		return q.handBack(tx, l, why)
	}
	if err := q.next(tx, l, Result{GivenBack: true}); err != nil {
		return err
	}
	var state string
	if err := tx.Raw(`
		UPDATE frames SET state = CASE WHEN (SELECT count(*) FROM tries WHERE frame_id = frames.id AND outcome = 'lost' AND id > frames.forgiven) >= $2 THEN 'failed' ELSE 'waiting' END,
		       cause = 'agent-lost', lease_until = NULL, boot = NULL, progress = 0
		WHERE id = $1 RETURNING state`, l.id, lossesAllowed).Row().Scan(&state); err != nil {
		return err
	}
	return q.free(tx, l, tries.Lost, "agent-lost", why, state, nil)
}

// inTheWay are the frames of less urgent runs on devices for which run $1 owes some now, at $2.
const inTheWay = `run_id <> $1 AND EXISTS (SELECT FROM runs r, runs u WHERE r.id = frames.run_id AND u.id = $1 AND r.kind = 'run' AND r.priority < u.priority)
	AND EXISTS (SELECT FROM bookings b, jsonb_array_elements_text(b.devices) d WHERE b.run_id = $1 AND b.host = frames.host AND b.open AND b.taken < b.frames
	            AND b.excluded = '' AND b.start_at <= $2 AND jsonb_exists(frames.devices, d))`

// handBack lets a frame under lease wait as it did before: nothing went wrong with it.
func (q *Queue) handBack(tx *gorm.DB, l leased, why string) error {
	if !l.begun {
		_, err := q.returnUnbegun(tx, "f.id = $1", l.id)
		return err
	}
	err := tx.Exec("UPDATE frames SET state = 'waiting', lease_until = NULL, boot = NULL, progress = 0 WHERE id = $1", l.id).Error
	return errors.Join(err, q.free(tx, l, tries.Revoked, "", why, "waiting", nil))
}

// LeaseFor leases up to n waiting frames to a holder, the last of the shot that a farm
// is handed, and returns their numbers in order.
func (q *Queue) LeaseFor(tx *gorm.DB, h Holder, n int) ([]int, error) {
	all, err := bookings.Kinds(tx, h.Run, h.Shot)
	if err != nil {
		return nil, err
	}
	farm := &dispatch.Crew{Place: dispatch.Place(h.Place, h.Crew)}
	handed := [][2][]string{}
	for _, k := range all {
		if dispatch.Hands(farm, &k) {
			handed = append(handed, [2][]string{append([]string{}, k.FailedOn...), append([]string{}, k.OnlyOn...)})
		}
	}
	which, err := store.AsJSON(handed)
	if err != nil {
		return nil, err
	}
	frames, err := store.Column[int](tx.Raw(`
		WITH taken AS (
			SELECT id FROM frames WHERE run_id = $1 AND shot = $2 AND state = 'waiting'
			  AND jsonb_build_array(failed_on, only_on) IN (SELECT * FROM jsonb_array_elements($10::jsonb))
			ORDER BY frame DESC LIMIT $5 FOR UPDATE SKIP LOCKED),
		leased AS (
			UPDATE frames f SET state = 'rendering', fence = fence + 1, host = $3, crew = $4, devices = '[]', booking_id = $6, boot = $7,
			       leased_at = $8, lease_until = $9, progress = 0, sha256 = NULL, bytes = NULL, begun = true, start = 0
			FROM taken WHERE f.id = taken.id RETURNING f.frame)
		SELECT frame FROM leased ORDER BY frame`,
		h.Run, h.Shot, h.Place, h.Crew, n, h.Booking, h.ID, q.clock.Now(), q.clock.WallNow().Add(LeaseLife), which))
	if err != nil {
		return nil, err
	}
	return frames, bookings.Took(tx, h.Booking, len(frames))
}

// Renew renews the leases of holders.
func (q *Queue) Renew(ctx context.Context, holders []uuid.UUID) error {
	if len(holders) == 0 {
		return nil
	}
	return q.store.WithContext(ctx).Exec("UPDATE frames SET lease_until = $1 WHERE state = 'rendering' AND lease_until < $2 AND boot = ANY($3)",
		q.clock.WallNow().Add(LeaseLife), q.clock.WallNow().Add(LeaseLife/2), holders).Error
}

// RenewHeld renews the leases that agents hold until then, with how far their frames are, and returns which those are,
// without how far they are.
func RenewHeld(tx *gorm.DB, all []Holding, until time.Time) (map[Held]bool, error) {
	var ids, fences []int64
	var progress []float64
	var hosts, boots []string
	for _, b := range all {
		for _, h := range b.Held {
			ids, fences, progress, hosts, boots = append(ids, h.Lease), append(fences, h.Fence), append(progress, h.Progress), append(hosts, b.Host), append(boots, b.Boot.String())
		}
	}
	kept := map[Held]bool{}
	if len(ids) == 0 {
		return kept, nil
	}
	// Two transactions lock rows in the same order. What is not begun is held as long as what its start renders.
	found, err := store.Rows(tx.Raw(`
		WITH held AS (
			SELECT f.id, f.fence, f.begun, h.progress FROM unnest($2::bigint[], $3::bigint[], $4::float8[], $5::text[], $6::uuid[]) AS h (id, fence, progress, host, boot)
			JOIN frames f ON f.id = h.id AND f.fence = h.fence AND f.state = 'rendering' AND f.host = h.host AND f.boot = h.boot),
		locked AS (SELECT f.id, held.fence, held.progress FROM held JOIN frames f ON f.id = held.id WHERE held.begun ORDER BY f.id FOR UPDATE OF f),
		renewed AS (
			UPDATE frames f SET lease_until = $1, progress = locked.progress FROM locked
			WHERE f.id = locked.id AND f.fence = locked.fence AND f.state = 'rendering' RETURNING f.id, f.fence)
		SELECT id, fence FROM renewed UNION ALL SELECT id, fence FROM held WHERE NOT begun`,
		until, ids, fences, progress, hosts, boots), func(row store.Row) (h Held, err error) { return h, row.Scan(&h.Lease, &h.Fence) })
	for _, h := range found {
		kept[h] = true
	}
	return kept, err
}

func setDone(tx *gorm.DB, frame int64, at time.Time, seconds float64) error {
	return tx.Exec("UPDATE frames SET state = 'done', done_at = $2, seconds = $3, lease_until = NULL, progress = 1 WHERE id = $1", frame, at, seconds).Error
}

// claim leases the first frames of a kind that nobody else is about to lease to a crew, up to n, for one start.
func (g *granting) claim(c *bookings.Crew, k *dispatch.Kind, n int) ([]turn.Rendering, error) {
	lists, err := store.AllAsJSON(append([]string{}, k.FailedOn...), append([]string{}, k.OnlyOn...), c.Devices)
	if err != nil {
		return nil, err
	}
	which := map[bool]string{true: "tried", false: "NOT tried"}[k.Tried]
	return store.Rows(g.tx.Raw(`
		WITH next AS MATERIALIZED (
			SELECT id, warm_up, repeat, frame FROM frames WHERE run_id = $1 AND shot = $2 AND state = 'waiting' AND `+which+` AND failed_on = $3::jsonb AND only_on = $4::jsonb
			ORDER BY `+bookings.Order+` LIMIT `+fmt.Sprint(n)+` FOR UPDATE SKIP LOCKED),
		placed AS (SELECT id, row_number() OVER w - 1 AS i, CASE WHEN count(*) OVER () > 1 THEN first_value(id) OVER w ELSE 0 END AS start FROM next WINDOW w AS (ORDER BY `+bookings.Order+`)),
		leased AS (
			UPDATE frames SET state = 'rendering', fence = fence + 1, host = $5, crew = $6, devices = $7::jsonb, booking_id = $8,
			       boot = $9, leased_at = $10::timestamptz + placed.i * make_interval(secs => $13), lease_until = CASE WHEN placed.i = 0 THEN $11::timestamptz END,
			       begun = placed.i = 0, start = placed.start, progress = 0, sha256 = NULL, bytes = NULL,
			       memory_mode = CASE WHEN $12 <> '' THEN $12 ELSE memory_mode END
			FROM placed WHERE frames.id = placed.id RETURNING frames.*)
		SELECT `+turn.Columns+` FROM leased f JOIN run_shots s USING (run_id, shot) ORDER BY f.leased_at`,
		c.Run, c.Shot, lists[0], lists[1], g.Host.Name, c.Name, lists[2], c.ID, g.boot, g.Now, g.Wall.Add(LeaseLife), c.Mode, c.Frame.Seconds()), g.Scan)
}

// setRanOut ends the lease of a frame that ran out of memory: it goes to the places it is
// tied to, none being all, in a mode of memory, or is given up.
func setRanOut(tx *gorm.DB, l leased, giveUp, sameCrew bool, places []string, mode string) (state string, err error) {
	only, err := store.AsJSON(places)
	if err != nil {
		return "", err
	}
	return state, tx.Raw(`
		UPDATE frames SET state = CASE WHEN $2 OR failures + 1 >= $3 THEN 'failed' ELSE 'waiting' END, failures = failures + 1,
		       failed_on = CASE WHEN $4 THEN failed_on ELSE failed_on || to_jsonb(host || '/' || crew) END,
		       only_on = $5::jsonb, memory_mode = $6, cause = 'out-of-memory', lease_until = NULL, boot = NULL, progress = 0
		WHERE id = $1 RETURNING state`, l.id, giveUp, l.tries, sameCrew, only, mode).Row().Scan(&state)
}

// failForsaken gives up the waiting frames of a shot from which every crew is excluded.
func failForsaken(tx *gorm.DB, run uuid.UUID, shot, cause string) error {
	return tx.Exec(`
		UPDATE frames SET state = 'failed', cause = $3 WHERE run_id = $1 AND shot = $2 AND state IN ('waiting', 'blocked')
		  AND NOT EXISTS (SELECT 1 FROM bookings WHERE run_id = $1 AND shot = $2 AND excluded = '')`, run, shot, cause).Error
}

// Untie lets waiting frames that are tied to some places go anywhere.
func Untie(tx *gorm.DB, run uuid.UUID, shot string, places []string) error {
	tied, err := store.AsJSON(places)
	if err != nil {
		return err
	}
	return tx.Exec("UPDATE frames SET only_on = '[]' WHERE run_id = $1 AND shot = $2 AND state = 'waiting' AND only_on = $3::jsonb", run, shot, tied).Error
}

// MarkFlicker marks the finished frames of a shot that flicker, by their numbers, and no others any more.
func MarkFlicker(tx *gorm.DB, run uuid.UUID, shot string, marks map[int]pictures.Flicker) error {
	all, err := store.AsJSON(marks)
	if err != nil {
		return err
	}
	return errors.Join(
		tx.Exec("UPDATE frames SET seen = nullif(seen - 'flicker', '{}') WHERE run_id = $1 AND shot = $2 AND jsonb_exists(seen, 'flicker')", run, shot).Error,
		tx.Exec(`UPDATE frames f SET seen = coalesce(f.seen, '{}') || jsonb_build_object('flicker', m.value) FROM jsonb_each($3::jsonb) m
			WHERE f.run_id = $1 AND f.shot = $2 AND f.frame = m.key::int AND f.state = 'done' AND NOT f.warm_up AND f.repeat = 0`, run, shot, all).Error)
}

// Restored ends what was under lease in a backup, and numbers leases beyond those that agents may have got since.
func Restored(tx *gorm.DB) error {
	return tx.Exec("UPDATE frames SET fence = fence + 1000, lease_until = CASE WHEN state = 'rendering' THEN now() END").Error
}
