// Package notify tells people where they are: what ended, what falls behind, what waits for
// them. A receiver is a web hook or a mailbox, with the subjects it is told of and the hours in
// which it is told nothing.
//
// What there is to tell is read from how things stand (see causes.go), not from what happened:
// so nothing is missed while no service runs, and nothing is told twice. A notice stands for
// one such thing and one receiver. It is made when the thing is first seen, told once, and over
// when the thing is so no more; what is over before it was told is not told, but for what
// ended, which stays so. Any number of services may sweep.
//
//	waiting → sent
//	       ↘ over (so no more), failed (not taken after so many tries)
//
// Telling is a job, one at a time for each receiver, so that what is told comes in order; after
// a failure the receiver is left in peace for longer and longer. docs/notifications.md has the
// forms.
package notify

import (
	"context"
	"errors"
	"log/slog"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/core/stock"
	"rotanex.example/service/clock"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/jobs"
	"rotanex.example/service/secrets"
	"rotanex.example/service/standing"
	"rotanex.example/service/store"
)

// Subject is what a notice is about.
type Subject string

// Subjects.
const (
	Done        Subject = "done"         // a run ended
	Behind      Subject = "behind"       // a run's chance fell below what was asked for
	Proposal    Subject = "proposal"     // a new schedule waits for a person: mostly for money
	Proofs      Subject = "proofs"       // a farm's proof frames wait for a person
	Stranded    Subject = "stranded"     // nobody is left to render frames
	HostLost    Subject = "host-lost"    // a host with frames to render is not heard of
	BacklogDone Subject = "backlog-done" // a shot of the backlog ended
)

// subjects are all of them, in the order in which they are listed.
var subjects = []Subject{Done, Behind, Proposal, Proofs, Stranded, HostLost, BacklogDone}

const (
	// tell is the kind of job.
	tell = "notices"
	// again is how long after a notice another about the same thing is made at the earliest.
	again = time.Hour
	// most is how often a receiver is tried; what waits then has failed.
	most = 12
	// longest is the longest rest of a receiver that does not answer.
	longest = time.Hour
	// keptFor is how long notices are kept that are over, sent or failed.
	keptFor = 30 * 24 * time.Hour
	// newest is how many notices are told at once.
	newest = 50
)

// Config is what telling needs of the service. All of it is wanted but a mail server, without
// which there are no mailboxes.
type Config struct {
	Store    *store.Store
	Clock    clock.Clock
	Jobs     *jobs.Jobs
	Standing *standing.Standing
	Secrets  secrets.Box
	Address  string         // of the service, for links
	Zone     *time.Location // in which quiet hours and times in texts are read
	Mail     *Mail
	Log      *slog.Logger
}

// Notify tells receivers.
type Notify struct{ Config }

// New makes it.
func New(c Config) *Notify {
	n := &Notify{c}
	c.Jobs.On(tell, n.tell)
	return n
}

// Sweep makes notices of what there is to tell, ends those that are over, and has receivers
// told that are due.
func (n *Notify) Sweep(ctx context.Context) error {
	receivers, err := n.receivers(ctx)
	if err != nil || len(receivers) == 0 {
		return err
	}
	causes, err := n.causes(ctx)
	if err != nil {
		return err
	}
	db, now := n.Store.WithContext(ctx), n.Clock.Now()
	for _, r := range receivers {
		err = errors.Join(err, settle(db, r, r.wants(causes), now))
		due, failed := n.due(db, r, now)
		if err = errors.Join(err, failed); due {
			err = errors.Join(err, db.Transaction(func(tx *gorm.DB) error { return n.Jobs.Send(ctx, tx, tell, r.Name) }))
		}
	}
	return errors.Join(err, prune(db, now.Add(-keptFor)))
}

// wants are the causes that a receiver is told of: those of its subjects, and of what ended
// only what did since it is there.
func (r Receiver) wants(all []cause) (out []cause) {
	for _, c := range all {
		for _, s := range r.Subjects {
			if s == c.Subject && (!c.lasting() || !c.Since.Before(r.CreatedAt)) {
				out = append(out, c)
			}
		}
	}
	return out
}

// settle makes the receiver's notices what the causes say.
func settle(tx *gorm.DB, r Receiver, causes []cause, now time.Time) error {
	keys := make([]string, 0, len(causes))
	var err error
	for _, c := range causes {
		keys = append(keys, c.Key)
		err = errors.Join(err, note(tx, Notice{
			ID: uuid.New(), Receiver: r.Name, Key: c.Key, Subject: c.Subject, RunID: c.Run, Text: c.Text, At: now, State: Waiting,
		}))
	}
	return errors.Join(err, end(tx, r.Name, keys, now))
}

// due reports whether a receiver is to be told something now.
func (n *Notify) due(tx *gorm.DB, r Receiver, now time.Time) (bool, error) {
	if now.Before(r.NextAt) || now.Before(r.quietUntil(now, n.Zone)) {
		return false, nil
	}
	return waits(tx, r.Name)
}

// quietUntil is when the hours end in which the receiver is told nothing; now or before if it
// may be told.
func (r Receiver) quietUntil(now time.Time, zone *time.Location) time.Time {
	if len(r.Quiet) == 0 {
		return now
	}
	for _, w := range (stock.Host{Open: r.Quiet}).Windows(now, now.Add(8*24*time.Hour), zone) {
		if !w.Start.After(now) {
			return w.End
		}
	}
	return now
}

// tell is the job: it tells a receiver all that waits for it, the oldest first.
func (n *Notify) tell(ctx context.Context, name string) error {
	r, err := n.find(ctx, name)
	if p := (*httpapi.Problem)(nil); errors.As(err, &p) {
		return nil // it was taken away
	} else if err != nil {
		return err
	}
	db, now := n.Store.WithContext(ctx), n.Clock.Now()
	if due, err := n.due(db, r, now); err != nil || !due {
		return err
	}
	all, err := waiting(db, name)
	if err != nil {
		return err
	}
	failed := n.deliver(ctx, r, all, func(told []Notice) error { return sent(db, told, n.Clock.Now()) })
	if failed == nil {
		return well(db, name)
	}
	n.Log.Warn("telling", "receiver", name, "error", failed)
	rest := min(longest, time.Minute<<min(r.Tries, 10))
	return unwell(db, name, failed.Error(), n.Clock.Now().Add(rest), r.Tries+1 >= most)
}
