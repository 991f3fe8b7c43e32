// Package bookings keeps what plans gave crews to do in open runs, and reads it as the
// rule of core/dispatch looks at it: with what is known of each crew's machine. How many
// frames a booking has taken is counted as package queue leases them.
package bookings

import (
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/core/dispatch"
	"rotanex.example/service/store"
)

// Booking is what a plan gave one crew to do. One of no frames is a reserve: a
// crew that the plan does not need, and that helps when others fail.
type Booking struct {
	ID       int64 `gorm:"primaryKey"`
	RunID    uuid.UUID
	Shot     string
	Host     string
	Crew     string
	Devices  []string `gorm:"serializer:json"`
	Frames   int
	Taken    int
	StartAt  time.Time
	EndAt    time.Time
	CloseAt  *time.Time
	DueAt    *time.Time // its frames are to be rendered by then; nil: at any time
	FrameS   float64
	OpeningS float64 // of the scene, once a start; FrameS has its part of it
	InStart  int     `gorm:"default:1"` // frames of a start, that share OpeningS in FrameS
	Nodes    int     `gorm:"default:1"` // of a farm, that work side by side
	Planned  int     // frames as they were planned, whatever changed since but a plan in its place
	Open     bool
	Excluded string // why it gets no more frames; "" is not excluded
	Farm     bool   `gorm:"-"` // its frames are rendered by a farm
}

// OpeningPart is what of FrameS is opening the scene.
func (b Booking) OpeningPart() float64 { return b.OpeningS / float64(max(1, b.InStart)) }

// batch is how many rows are inserted at once.
const batch = 2000

// Add stores bookings, which get their ids.
func Add(tx *gorm.DB, all []Booking) error {
	if len(all) == 0 {
		return nil
	}
	for i := range all {
		all[i].Planned = all[i].Frames
	}
	return tx.CreateInBatches(all, batch).Error
}

// All lists the bookings of a run, by their start. Of many, reading them row by row takes half the time that GORM does.
func All(tx *gorm.DB, run uuid.UUID) ([]Booking, error) {
	return store.Rows(tx.Raw(`SELECT id, run_id, shot, host, crew, devices, frames, taken, start_at, end_at, close_at, due_at, frame_s, opening_s, in_start, nodes, planned, open, excluded
		FROM bookings WHERE run_id = $1 ORDER BY start_at, id`, run), func(row store.Row) (b Booking, err error) {
		return b, row.Scan(&b.ID, &b.RunID, &b.Shot, &b.Host, &b.Crew, store.JSON(&b.Devices), &b.Frames, &b.Taken, &b.StartAt, &b.EndAt, &b.CloseAt, &b.DueAt, &b.FrameS, &b.OpeningS, &b.InStart, &b.Nodes,
			&b.Planned, &b.Open, &b.Excluded)
	})
}

// Took counts frames that a booking has taken, or with less than 0 that it gave back.
func Took(tx *gorm.DB, booking int64, n int) error {
	return tx.Exec("UPDATE bookings SET taken = greatest(0, taken + $2) WHERE id = $1", booking, n).Error
}

// Lessen lets a booking owe a frame less: it will not be asked for it again.
func Lessen(tx *gorm.DB, booking int64) error {
	return tx.Exec("UPDATE bookings SET frames = greatest(0, frames - 1) WHERE id = $1", booking).Error
}

// Exclude keeps further frames of a shot from a crew, and says why.
func Exclude(tx *gorm.DB, run uuid.UUID, shot, host, crew, why string) error {
	return tx.Exec("UPDATE bookings SET excluded = $5 WHERE run_id = $1 AND shot = $2 AND host = $3 AND crew = $4", run, shot, host, crew, why).Error
}

// SetMemoryMode has a crew render further frames of a shot in a mode of memory.
func SetMemoryMode(tx *gorm.DB, run uuid.UUID, shot, host, crew, mode string) error {
	return tx.Exec("UPDATE bookings SET memory_mode = $5 WHERE run_id = $1 AND shot = $2 AND host = $3 AND crew = $4", run, shot, host, crew, mode).Error
}

// Reopen opens all bookings of a run, for every crew, as if none had been excluded.
func Reopen(tx *gorm.DB, run uuid.UUID) error {
	return tx.Exec("UPDATE bookings SET open = true, excluded = '' WHERE run_id = $1", run).Error
}

// SetOpen opens or closes the bookings of runs: only open ones are leased for.
func SetOpen(tx *gorm.DB, open bool, runs ...uuid.UUID) error {
	return tx.Model(&Booking{}).Where("run_id IN ?", runs).Update("open", open).Error
}

// OweNothing lets the bookings of a run keep what they have taken and owe no more, as others
// are planned in their place: no more than that counts as planned there.
func OweNothing(tx *gorm.DB, run uuid.UUID) error {
	return tx.Exec("UPDATE bookings SET frames = taken, planned = least(planned, taken) WHERE run_id = $1 AND frames > taken", run).Error
}

// OneOwesNothing is OweNothing for one booking.
func OneOwesNothing(tx *gorm.DB, booking int64) error {
	return tx.Exec("UPDATE bookings SET frames = taken WHERE id = $1", booking).Error
}

// Postpone moves the bookings of a host in a run, for it begins so much later.
func Postpone(tx *gorm.DB, run uuid.UUID, host string, by time.Duration) error {
	return tx.Exec("UPDATE bookings SET start_at = start_at + $3, end_at = end_at + $3, close_at = close_at + $3 WHERE run_id = $1 AND host = $2", run, host, by).Error
}

// CloseAt says until when a host takes frames in a run.
func CloseAt(tx *gorm.DB, run uuid.UUID, host string, at time.Time) error {
	return tx.Exec("UPDATE bookings SET close_at = $3 WHERE run_id = $1 AND host = $2", run, host, at).Error
}

// Owed is how long what a host still owes in a run takes its busiest crew.
func Owed(tx *gorm.DB, run uuid.UUID, host string) (time.Duration, error) {
	var seconds float64
	err := tx.Raw(`SELECT coalesce(max(t), 0) FROM (SELECT sum((frames - taken) * frame_s) AS t FROM bookings
		WHERE run_id = $1 AND host = $2 AND taken < frames AND excluded = '' GROUP BY crew) x`, run, host).Row().Scan(&seconds)
	return time.Duration(seconds * float64(time.Second)), err
}

// Replace books on another host what one still owes in a run.
func Replace(tx *gorm.DB, run uuid.UUID, host, by string, start, end, closes time.Time) error {
	err := tx.Exec(`INSERT INTO bookings (run_id, shot, host, crew, devices, frames, start_at, end_at, close_at, due_at, frame_s, opening_s, in_start, open)
		SELECT run_id, shot, $3, crew, devices, frames - taken, $4, $5, $6, due_at, frame_s, opening_s, in_start, open FROM bookings WHERE run_id = $1 AND host = $2 AND taken < frames AND excluded = ''`,
		run, host, by, start, end, closes).Error
	if err != nil {
		return err
	}
	return tx.Exec("UPDATE bookings SET frames = taken WHERE run_id = $1 AND host = $2 AND taken < frames", run, host).Error
}

// BeginNow lets the bookings of a run begin now that are to begin when frames of less urgent
// runs in hand on their hosts are done.
func BeginNow(tx *gorm.DB, run uuid.UUID, now time.Time) error {
	return tx.Exec(`UPDATE bookings b SET start_at = $2 WHERE b.run_id = $1 AND b.open AND b.taken < b.frames AND b.start_at > $2 AND EXISTS (
		SELECT FROM frames f JOIN bookings o ON o.id = f.booking_id JOIN runs r ON r.id = f.run_id JOIN runs u ON u.id = $1
		WHERE f.state = 'rendering' AND f.host = b.host AND r.kind = 'run' AND r.priority < u.priority
		  AND b.start_at <= greatest($2, f.leased_at + make_interval(secs => o.frame_s)) + interval '1 minute')`, run, now).Error
}

const crewColumns = `b.id, b.run_id, b.shot, b.host, b.crew, b.devices, b.frames, b.taken, b.start_at, b.end_at, b.close_at, coalesce(r.deadline, b.due_at), b.frame_s, b.frame_s / b.nodes, b.opening_s, b.nodes,
	r.kind = 'trial', coalesce((s.spec->>'host_memory_gb')::float8, 0), b.memory_mode, coalesce(s.spec->>'licence', ''), b.excluded,
	h.name IS NOT NULL, coalesce(h.draining, false), coalesce(h.trouble, ''), h.agent_seen, v.state, j.state, r.priority, h.desk
	FROM bookings b JOIN runs r ON r.id = b.run_id JOIN run_shots s ON s.run_id = b.run_id AND s.shot = b.shot LEFT JOIN hosts h ON h.name = b.host
	LEFT JOIN servers v ON v.run_id = b.run_id AND v.host = b.host LEFT JOIN farm_jobs j ON j.booking_id = b.id`

// read reads bookings as the rule looks at them. Wall is the real time, by which hosts
// are heard of.
func read(tx *gorm.DB, wall time.Time, where string, args ...any) ([]*Crew, error) {
	return store.Rows(tx.Raw("SELECT "+crewColumns+" WHERE "+where+" ORDER BY b.id", args...), func(row store.Row) (*Crew, error) {
		c := &Crew{}
		var closes, due *time.Time
		var frame, opening float64
		err := row.Scan(&c.ID, &c.Run, &c.Shot, &c.Host, &c.Name, store.JSON(&c.Devices), &c.Frames, &c.Taken, &c.Start, &c.End, &closes, &due, &c.Pace, &frame, &opening, &c.Nodes,
			&c.Trial, &c.MemoryGB, &c.Mode, &c.Licence, &c.Excluded, &c.Known, &c.drains, &c.trouble, &c.seen, &c.server, &c.job, &c.Priority, store.JSON(&c.desk))
		if err != nil {
			return nil, err
		}
		if closes != nil {
			c.Close = *closes
		}
		if due != nil && c.Priority != dispatch.Backlog {
			c.Due = *due
		}
		c.Frame, c.Opening = time.Duration(frame*float64(time.Second)), time.Duration(opening*float64(time.Second))
		c.Place, c.Farm = dispatch.Place(c.Host, c.Name), c.job != nil
		c.State, c.Said = c.stands(wall)
		return c, nil
	})
}

// FrameS is how many seconds a booking expects a frame to take.
func FrameS(tx *gorm.DB, booking int64) (seconds float64, err error) {
	return seconds, tx.Raw("SELECT frame_s FROM bookings WHERE id = $1", booking).Row().Scan(&seconds)
}

// Order is that in which frames of a shot are taken.
const Order = "warm_up DESC, repeat, frame"

// Kinds reads what waits of a shot, alike to the rule, the first frame's kind first.
// How many of those never tried wait is left out: it takes counting them.
func Kinds(tx *gorm.DB, run uuid.UUID, shot string) ([]dispatch.Kind, error) {
	type first struct {
		dispatch.Kind
		warmUp        bool
		repeat, frame int
	}
	found, err := store.Rows(tx.Raw(`
		SELECT * FROM (
			(SELECT id, false AS tried, failed_on, only_on, 1 AS n, warm_up, repeat, frame FROM frames
			 WHERE run_id = $1 AND shot = $2 AND state = 'waiting' AND NOT tried ORDER BY `+Order+` LIMIT 1)
			UNION ALL
			(SELECT DISTINCT ON (failed_on, only_on) id, true, failed_on, only_on, count(*) OVER (PARTITION BY failed_on, only_on), warm_up, repeat, frame FROM frames
			 WHERE run_id = $1 AND shot = $2 AND state = 'waiting' AND tried ORDER BY failed_on, only_on, `+Order+`)) k
		ORDER BY `+Order, run, shot), func(row store.Row) (f first, err error) {
		return f, row.Scan(&f.First, &f.Tried, store.JSON(&f.FailedOn), store.JSON(&f.OnlyOn), &f.Waiting, &f.warmUp, &f.repeat, &f.frame)
	})
	out := make([]dispatch.Kind, len(found))
	for i, f := range found {
		out[i] = f.Kind
	}
	return out, err
}

// KindsOfRun reads what waits of each shot of a run, alike to the rule. How many of those never tried wait is left out.
func KindsOfRun(tx *gorm.DB, run uuid.UUID) (map[string][]dispatch.Kind, error) {
	out := map[string][]dispatch.Kind{}
	_, err := store.Rows(tx.Raw(`
		SELECT s.shot, k.* FROM run_shots s, LATERAL (
			(SELECT id, false, failed_on, only_on, 1 FROM frames WHERE run_id = s.run_id AND shot = s.shot AND state = 'waiting' AND NOT tried`+inIndex+` LIMIT 1)
			UNION ALL SELECT min(id), true, failed_on, only_on, count(*) FROM frames WHERE run_id = s.run_id AND shot = s.shot AND state = 'waiting' AND tried GROUP BY failed_on, only_on) k
		WHERE s.run_id = $1 ORDER BY s.shot`, run), func(row store.Row) (shot string, err error) {
		var k dispatch.Kind
		if err = row.Scan(&shot, &k.First, &k.Tried, store.JSON(&k.FailedOn), store.JSON(&k.OnlyOn), &k.Waiting); err == nil {
			out[shot] = append(out[shot], k)
		}
		return shot, err
	})
	return out, err
}

// inIndex has what waits read from its index whatever the planner thinks of it: a scan finds the first that waits behind all that is done.
const inIndex = " ORDER BY tried, warm_up DESC, repeat, frame"

// CountWaiting is how many frames of a shot wait, at most so many; 0: all of them, which takes counting them.
func CountWaiting(tx *gorm.DB, run uuid.UUID, shot string, most int) (n int, err error) {
	return n, tx.Raw("SELECT count(*) FROM (SELECT FROM frames WHERE run_id = $1 AND shot = $2 AND state = 'waiting'"+inIndex+" LIMIT nullif($3, 0)) f", run, shot, most).Row().Scan(&n)
}

// inHand is what a booking has under lease.
type inHand struct {
	begun   *time.Time // since when the frame is rendered that is; nil: none is
	last    time.Time  // when the last one begins, as expected
	unbegun int
}

// underLease is what each booking of a shot has under lease.
func underLease(tx *gorm.DB, run uuid.UUID, shot string) (map[int64]inHand, error) {
	out := map[int64]inHand{}
	_, err := store.Rows(tx.Raw(`SELECT booking_id, max(leased_at) FILTER (WHERE begun), max(leased_at), count(*) FILTER (WHERE NOT begun)
		FROM frames WHERE run_id = $1 AND shot = $2 AND state = 'rendering' GROUP BY booking_id`, run, shot),
		func(row store.Row) (id int64, err error) {
			var x inHand
			err = row.Scan(&id, &x.begun, &x.last, &x.unbegun)
			out[id] = x
			return id, err
		})
	return out, err
}

// Idle reports whether a host has nothing in work and nothing to do: no open booking in a run that runs. Boot is its agent's.
func Idle(tx *gorm.DB, host string, boot uuid.UUID) (yes bool, err error) {
	err = tx.Raw(`SELECT boot = $2 AND NOT EXISTS (SELECT FROM bookings b JOIN runs r ON r.id = b.run_id WHERE b.host = $1 AND b.open AND r.state = 'running')
		AND NOT EXISTS (SELECT FROM frames WHERE host = $1 AND state = 'rendering') FROM hosts WHERE name = $1 AND boot IS NOT NULL`, host, boot).Row().Scan(&yes)
	return yes, store.Unless(store.Missing, err)
}
