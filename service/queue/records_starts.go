package queue

import (
	"errors"
	"maps"
	"slices"
	"time"

	"gorm.io/gorm"

	"rotanex.example/service/bookings"
	"rotanex.example/service/events"
	"rotanex.example/service/store"
	"rotanex.example/service/tries"
)

// A start may render several frames: each has a lease of its own, with its fence. The first is begun at once, the next when the one
// before is done. Those that are not begun are nobody's yet: they need no renewing, go back untouched, and leave no try.

// next goes on with a start, as the lease of a frame of it has ended: the next frame begins if this one is done, else the start
// is over.
func (q *Queue) next(tx *gorm.DB, l leased, r Result) (err error) {
	switch {
	case l.start == 0 || !l.begun:
	case r.outcome() == tries.Done:
		err = tx.Exec(beginNext, q.clock.Now(), q.clock.WallNow().Add(LeaseLife), l.host, l.boot, l.start).Error
	default:
		_, err = q.returnUnbegun(tx, oneStart, l.host, l.boot, l.start)
	}
	return err
}

const (
	beginNext = `UPDATE frames SET begun = true, leased_at = $1, lease_until = $2 WHERE id = (
		SELECT id FROM frames WHERE host = $3 AND state = 'rendering' AND NOT begun AND boot = $4 AND start = $5 ORDER BY leased_at LIMIT 1 FOR UPDATE)`
	// lastOfBooking are the last $2 of booking $1, oneStart is what is left of start $3 on host $1 of agent $2.
	lastOfBooking = "f.id IN (SELECT id FROM frames WHERE booking_id = $1 AND state = 'rendering' AND NOT begun ORDER BY leased_at DESC LIMIT $2)"
	oneStart      = "f.host = $1 AND f.boot = $2 AND f.start = $3"
	// notToGoOn are those of starts that are to end with the frame in hand, at $1: their run, host or booking takes no more, or
	// somebody more urgent waits for the devices. It is asked of starts, not of each frame that one holds.
	notToGoOn = `(f.host, f.boot, f.start) IN (SELECT s.host, s.boot, s.start FROM frames s JOIN runs r ON r.id = s.run_id JOIN hosts h ON h.name = s.host JOIN bookings b ON b.id = s.booking_id
		WHERE s.state = 'rendering' AND s.begun AND s.start <> 0 AND (r.state <> 'running' OR h.draining OR h.trouble <> '' OR NOT b.open OR b.excluded <> '' OR EXISTS (
			SELECT FROM bookings o JOIN runs u ON u.id = o.run_id, jsonb_array_elements_text(o.devices) d
			WHERE o.host = s.host AND o.run_id <> s.run_id AND r.kind = 'run' AND u.state = 'running' AND r.priority < u.priority AND o.open
			  AND o.taken < o.frames AND o.excluded = '' AND o.start_at <= $1 AND jsonb_exists(s.devices, d))))`
	// strays are those of which nothing is being rendered: there are none, but a frame must not wait for ever.
	strays = `NOT EXISTS (SELECT FROM frames o WHERE o.host = f.host AND o.state = 'rendering' AND o.begun AND o.boot = f.boot AND o.start = f.start)`
)

// returnUnbegun lets frames under lease that no renderer has begun wait as they did before, and says how many they are.
func (q *Queue) returnUnbegun(tx *gorm.DB, which string, args ...any) (int, error) {
	back, err := store.Rows(tx.Raw(`
		WITH back AS (SELECT id FROM frames f WHERE state = 'rendering' AND NOT begun AND (`+which+`) ORDER BY id FOR UPDATE SKIP LOCKED)
		UPDATE frames SET state = 'waiting', begun = true, start = 0, lease_until = NULL, boot = NULL, progress = 0 FROM back WHERE frames.id = back.id
		RETURNING run_id, shot, frame, host, crew, booking_id`, args...), func(row store.Row) (l leased, err error) {
		return l, row.Scan(&l.run, &l.shot, &l.frame, &l.host, &l.crew, &l.booking)
	})
	if err != nil {
		return 0, err
	}
	of := map[int64]int{}
	now := q.clock.Now()
	for _, l := range back {
		of[l.booking]++
		err = errors.Join(err, q.feed.Write(tx, l.event(events.Event{At: now, State: string(Waiting)})))
	}
	for _, booking := range slices.Sorted(maps.Keys(of)) {
		err = errors.Join(err, bookings.Took(tx, booking, -of[booking]))
	}
	return len(back), err
}

// shift has frames wait that others hold and have not begun, as many as a crew without work shall render instead.
func (q *Queue) shift(tx *gorm.DB, now time.Time, to *bookings.Crew) (frames int, err error) {
	from, err := bookings.Shift(tx, q.clock.WallNow(), now, to)
	for _, booking := range slices.Sorted(maps.Keys(from)) {
		n, failed := q.returnUnbegun(tx, lastOfBooking, booking, from[booking])
		frames, err = frames+n, errors.Join(err, failed)
	}
	return frames, err
}
