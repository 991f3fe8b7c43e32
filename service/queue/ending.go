package queue

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/core/timing"
	"rotanex.example/service/bookings"
	"rotanex.example/service/events"
	"rotanex.example/service/framefiles"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/shots"
	"rotanex.example/service/tries"
)

// stale is the answer to who no longer holds the lease.
func stale(lease, fence int64) error {
	return httpapi.Conflict(fmt.Sprintf("lease %d with fence %d is not held any more; nothing was changed", lease, fence))
}

// KeepPicture stores the file of a lease: written aside, checked, and counted as
// there only when all of that is done. Digest is its Content-Digest.
func (q *Queue) KeepPicture(ctx context.Context, host string, lease, fence int64, digest string, body io.Reader) error {
	want, f, spec, err := q.expected(ctx, host, lease, fence, digest)
	if err != nil {
		return err
	}
	key, kept, err := q.keep(ctx, f, spec, host, want, body)
	if err != nil || kept || q.repeated(ctx, lease, fence, hex.EncodeToString(want)) { // done already, by this same lease
		return err
	}
	q.pictures.Drop(ctx, key)
	return stale(lease, fence)
}

// KeepFile stores a file that a lease has beside its picture, in the same way. It is sent before that.
func (q *Queue) KeepFile(ctx context.Context, host string, lease, fence int64, file framefiles.File, digest string, body io.Reader) error {
	want, f, spec, err := q.expected(ctx, host, lease, fence, digest)
	if err != nil {
		return err
	}
	kept, err := q.files.Keep(ctx, f.lease(spec, host), file, want, body)
	if err == nil && !kept {
		err = stale(lease, fence)
	}
	return err
}

// expected is the frame of a lease, and what the file that is sent for it is by its digest.
func (q *Queue) expected(ctx context.Context, host string, lease, fence int64, digest string) (want []byte, f Frame, spec shots.Spec, err error) {
	want, err = base64.StdEncoding.DecodeString(strings.TrimSuffix(strings.TrimPrefix(digest, "sha-256=:"), ":"))
	if err != nil || len(want) != sha256.Size {
		return nil, f, spec, httpapi.BadField("Content-Digest", digest, "is no SHA-256 in base64")
	}
	f, spec, err = q.heldFrame(ctx, host, lease, fence)
	return want, f, spec, err
}

// lease is the frame under lease, as its files are kept.
func (f Frame) lease(spec shots.Spec, host string) framefiles.Lease {
	return framefiles.Lease{Frame: f.ID, Fence: f.Fence, Host: host, Keys: f.leaseKey(), Width: spec.Width, Height: spec.Height}
}

// keep stores a picture of a leased frame that has all the files that its shot asks for, and notes it if the frame still is leased;
// else the file is nobody's.
func (q *Queue) keep(ctx context.Context, f Frame, spec shots.Spec, host string, want []byte, body io.Reader) (key string, kept bool, err error) {
	key = f.keyFor(want)
	if err := q.files.Complete(ctx, f.lease(spec, host), spec.Files); err != nil {
		return key, false, err
	}
	size, info, err := q.pictures.Keep(ctx, key, body, want, spec.Width, spec.Height)
	if err == nil {
		kept, err = q.notePicture(ctx, host, f.ID, f.Fence, hex.EncodeToString(want), size, info, key)
	}
	return key, kept, err
}

// Causes of a try's failure by which the rule goes.
const (
	outOfMemory = "out-of-memory"
	refused     = "refused"
	cannotStart = "cannot-start"
)

// Result is how a try ended, as whoever held the frame says.
type Result struct {
	Boot      uuid.UUID
	Failed    bool
	GivenBack bool   // the frame waits again, it has not failed
	Cause     string // of a failure
	LogTail   string // the renderer's last words, or why the frame is given back
	SHA256    string // of the picture
	Measured  timing.Measurement
}

func (r Result) outcome() string {
	switch {
	case r.GivenBack:
		return tries.Revoked
	case r.Failed:
		return tries.Failed
	}
	return tries.Done
}

// End ends a lease: the frame is done, or its try failed. The same result again changes
// nothing, and that of a lease that is not held any more is a conflict.
func (q *Queue) End(ctx context.Context, host string, lease, fence int64, r Result) error {
	var ended *leased
	unblocked := false
	err := q.store.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		found, err := leases(tx, "id = $1 AND fence = $2 AND host = $3 AND boot = $4 FOR UPDATE", lease, fence, host, r.Boot)
		if err != nil {
			return err
		}
		if len(found) == 0 {
			return endedBefore(tx, lease, fence, r)
		}
		ended = &found[0]
		if err := q.end(tx, found[0], r); err != nil {
			return err
		}
		if r.outcome() == tries.Done {
			if unblocked, err = arrived(tx, found[0]); err != nil {
				return err
			}
		}
		return q.next(tx, found[0], r)
	})
	if err == nil && ended != nil {
		// A frame that is done is nobody else's: its host alone has room again. One that waits again, or now, is for others too.
		work := events.WorkOf(host)
		if r.outcome() != tries.Done || unblocked {
			work = events.Work
		}
		q.feed.Wake(events.Changes, work)
		err = q.Ended(ctx, ended.run, ended.shot, ended.trial)
	}
	return err
}

// end ends a lease as its result says.
func (q *Queue) end(tx *gorm.DB, l leased, r Result) error {
	switch {
	case r.GivenBack:
		return q.handBack(tx, l, "given back: "+r.LogTail)
	case r.Failed && r.Cause == outOfMemory:
		return q.ranOut(tx, l, r.LogTail, &r.Measured)
	case r.Failed:
		if err := q.excludeUnable(tx, l, r.Cause); err != nil {
			return err
		}
		return q.fail(tx, l, r.Cause, r.LogTail, &r.Measured)
	case l.sha256 == nil || *l.sha256 != r.SHA256:
		return httpapi.Conflict("the picture of this lease is not here, or is another one: send it first")
	}
	return q.finish(tx, l, r.Measured)
}

// finish makes the frame done.
func (q *Queue) finish(tx *gorm.DB, l leased, m timing.Measurement) error {
	now := q.clock.Now()
	if err := setDone(tx, l.id, now, m.Seconds); err != nil {
		return err
	}
	if err := note(tx, l, tries.Done, "", "", now, m.Seconds, &m); err != nil {
		return err
	}
	return q.feed.Write(tx, l.event(events.Event{At: now, State: string(Done), Seconds: m.Seconds}))
}

func (l leased) event(e events.Event) events.Event {
	e.Kind, e.Run, e.Shot, e.Frame, e.Host, e.Crew = events.Frame, l.run.String(), l.shot, l.frame, l.host, l.crew
	return e
}

// lossesAllowed is how often a frame's agent may get lost before the frame is taken to be what
// kills it.
const lossesAllowed = 10

// free tells of a lease that ended without a frame, which waits again or failed.
func (q *Queue) free(tx *gorm.DB, l leased, outcome, cause, tail, state string, m *timing.Measurement) error {
	now := q.clock.Now()
	seconds := max(0, now.Sub(l.since).Seconds())
	if m != nil && m.Seconds > 0 {
		seconds = m.Seconds
	}
	if err := bookings.Took(tx, l.booking, -1); err != nil {
		return err
	}
	if err := note(tx, l, outcome, cause, tail, now, seconds, m); err != nil {
		return err
	}
	if state == string(Failed) {
		if err := q.giveUpBlocked(tx, l); err != nil {
			return err
		}
	}
	return q.feed.Write(tx, l.event(events.Event{At: now, State: state, Cause: cause}))
}

// expire ends leases that were not renewed: while it is lenient those alone that were dead before.
func (q *Queue) expire(ctx context.Context, lenient bool) error {
	freed := 0
	err := q.store.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		over, err := leases(tx, overdue, q.clock.WallNow(), lenient, LeaseLife.Seconds())
		if err != nil {
			return err
		}
		for _, l := range over { // what their starts had not begun goes back with each
			q.log.Warn("lease not renewed", "run", l.run, "shot", l.shot, "frame", l.frame, "host", l.host)
			if err := q.lose(tx, l, "the agent did not renew its lease"); err != nil {
				return err
			}
		}
		unbegun, err := q.returnUnbegun(tx, notToGoOn, q.clock.Now())
		if freed = len(over) + unbegun; err == nil && q.sweeps.Add(1)%straysEvery == 1 {
			_, err = q.returnUnbegun(tx, strays)
		}
		return err
	})
	if err == nil && freed > 0 {
		q.feed.Wake(events.Changes, events.Work)
	}
	return err
}

// MakeRoom ends the leases of less urgent runs on devices for which a run owes frames, and
// lets its crews there begin at once. It returns how many frames wait again for that: it is
// not their failure, and their agents learn of it at their next heartbeat.
func (q *Queue) MakeRoom(tx *gorm.DB, run uuid.UUID) (frames int, err error) {
	now := q.clock.Now()
	if err := bookings.BeginNow(tx, run, now); err != nil {
		return 0, err
	}
	all, err := leases(tx, inTheWay+" ORDER BY id FOR UPDATE", run, now)
	for _, l := range all {
		err = errors.Join(err, q.handBack(tx, l, "given back for run "+run.String()[:8]+", which is more urgent"))
	}
	return len(all), err
}
