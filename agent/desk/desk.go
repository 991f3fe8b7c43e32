// Package desk lends a machine that somebody works at. It is lent while nobody has touched
// it for so long, or since its owner lent it by hand, and is its owner's again as soon as
// somebody touches it or takes it back. What it shall be is decided from plain values, once a
// second; Keep asks who touched it, and keeps what its owner said over a start.
//
//	d, err := desk.Open(ctx, folder, desk.Rule{Idle: 10 * time.Minute}, &desk.Login{})
//	d.Keep(ctx, func(s desk.Status) { … })   // told of every change
package desk

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"time"
)

// State of a desk.
type State string

// States.
const (
	Lent      State = "lent"       // frames may be rendered on it
	InUse     State = "in-use"     // somebody works at it, or may
	TakenBack State = "taken-back" // its owner took it back, until it is lent by hand
)

// Status is how a desk stands.
type Status struct {
	State State     `json:"state"`
	Since time.Time `json:"since"`
	Until time.Time `json:"until,omitzero"` // of what its owner said; zero: until something else is said
	Why   string    `json:"why"`

	ByHand bool `json:"by_hand"` // its owner said so
}

// Rule is when a desk is lent.
type Rule struct {
	Idle  time.Duration // nobody must have touched it for so long
	Leave time.Duration // after it was lent by hand, so long it may be touched: whoever lends it is leaving
}

// Defaults of Rule.
const (
	DefaultIdle  = 10 * time.Minute
	DefaultLeave = time.Minute
)

// Said is what a desk's owner said by hand. The zero value is nothing.
type Said struct {
	State State     `json:"state,omitempty"` // Lent or TakenBack
	At    time.Time `json:"at,omitzero"`
	Until time.Time `json:"until,omitzero"` // zero: no end
}

// Seen is what is known of a desk.
type Seen struct {
	Touched time.Time // when somebody touched it last
	Err     error     // why that cannot be told
	Closed  time.Time // its hours are over until then; zero: they are not
}

// Decide says how a desk stands at a time, and what of its owner's word still holds: what
// was taken back stays so; what was lent by hand is over when somebody comes back.
func (r Rule) Decide(said Said, seen Seen, now time.Time) (Status, Said) {
	if !said.Until.IsZero() && !now.Before(said.Until) {
		said = Said{}
	}
	came := seen.Err == nil && seen.Touched.After(said.At.Add(r.Leave))
	switch {
	case said.State == TakenBack:
		return Status{State: TakenBack, Until: said.Until, ByHand: true, Why: "its owner took it back"}, said
	case said.State == Lent && !came:
		return Status{State: Lent, Until: said.Until, ByHand: true, Why: "its owner lent it"}, said
	case seen.Err != nil:
		return Status{State: InUse, Why: "whether somebody works at it cannot be told: " + seen.Err.Error()}, said
	case said.State == Lent:
		return Status{State: InUse, Why: "somebody came back to it"}, Said{}
	case now.Sub(seen.Touched) < r.Idle:
		return Status{State: InUse, Why: "somebody works at it"}, said
	case !seen.Closed.IsZero():
		return Status{State: InUse, Why: "nobody has touched it for a while, but its hours are over until " + seen.Closed.Format("Mon 15:04 MST")}, said
	}
	return Status{State: Lent, Why: "nobody has touched it for a while"}, said
}

// Idleness tells when a machine was touched last.
type Idleness interface {
	Touched(ctx context.Context, now time.Time) (time.Time, error)
}

// Desk is a machine that is lent.
type Desk struct {
	rule Rule
	idle Idleness
	file string
	now  func() time.Time

	mu     sync.Mutex
	said   Said
	closed time.Time
	status Status
	spoken chan struct{} // something was said: decide at once
}

// Open takes up what the desk's owner said before, which is kept in a folder, and looks once
// how it stands.
func Open(ctx context.Context, folder string, rule Rule, idle Idleness) (*Desk, error) {
	d := &Desk{rule: rule, idle: idle, file: filepath.Join(folder, "desk.json"), now: time.Now, spoken: make(chan struct{}, 1)}
	data, err := os.ReadFile(d.file)
	if err == nil {
		err = json.Unmarshal(data, &d.said)
	}
	if err != nil && !os.IsNotExist(err) {
		return nil, fmt.Errorf("what was said of this desk before, %s: %w", d.file, err)
	}
	d.look(ctx)
	return d, nil
}

// every is how often a desk is looked at: with what an agent does then, it is its owner's
// again within two seconds.
const every = time.Second

// Keep looks at the desk until ctx ends, and calls changed with how it stands whenever that
// changes, once at the start.
func (d *Desk) Keep(ctx context.Context, changed func(Status)) {
	ticks := time.NewTicker(every)
	defer ticks.Stop()
	for first := true; ; first = false {
		if status, is := d.look(ctx); is || first {
			changed(status)
		}
		select {
		case <-ctx.Done():
			return
		case <-ticks.C:
		case <-d.spoken:
		}
	}
}

// look decides how the desk stands now, and says whether that is otherwise than before.
func (d *Desk) look(ctx context.Context) (Status, bool) {
	asking, cancel := context.WithTimeout(ctx, every)
	defer cancel()
	now := d.now()
	touched, err := d.idle.Touched(asking, now)
	d.mu.Lock()
	defer d.mu.Unlock()
	status, said := d.rule.Decide(d.said, Seen{touched, err, d.closed}, now)
	if said != d.said {
		d.said = said
		_ = d.store() // what holds no more is decided again after a start
	}
	if status.Since = d.status.Since; status.State != d.status.State {
		status.Since = now
	}
	is := status != d.status
	d.status = status
	return status, is
}

// Status is how the desk stood when it was last looked at.
func (d *Desk) Status() Status {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.status
}

// Closed says until when the desk's hours are over; zero: they are not.
func (d *Desk) Closed(until time.Time) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.closed = until
}

// Lend lends the desk until a time; zero: until somebody comes back to it.
func (d *Desk) Lend(ctx context.Context, until time.Time) (Status, error) {
	return d.say(ctx, Said{State: Lent, At: d.now(), Until: until})
}

// TakeBack takes the desk back until a time; zero: until it is lent by hand.
func (d *Desk) TakeBack(ctx context.Context, until time.Time) (Status, error) {
	return d.say(ctx, Said{State: TakenBack, At: d.now(), Until: until})
}

// say takes in what the owner said. Keep is told by itself, so that what it calls is called
// from one place.
func (d *Desk) say(ctx context.Context, said Said) (Status, error) {
	if now := d.now(); !said.Until.IsZero() && !said.Until.After(now) {
		return Status{}, fmt.Errorf("until %s: that is past; it is %s now", said.Until.Format("Mon 15:04"), now.Format("Mon 15:04"))
	}
	d.mu.Lock()
	before := d.said
	d.said = said
	err := d.store()
	if err != nil {
		d.said = before
	}
	d.mu.Unlock()
	if err != nil {
		return Status{}, err
	}
	touched, err := d.idle.Touched(ctx, d.now())
	status, _ := d.rule.Decide(said, Seen{Touched: touched, Err: err}, d.now())
	status.Since = said.At
	select {
	case d.spoken <- struct{}{}:
	default: // it is to look anyway
	}
	return status, nil
}

// store keeps what was said: written aside, then renamed.
func (d *Desk) store() error {
	data, err := json.Marshal(d.said)
	if err != nil {
		return err
	}
	aside := d.file + ".new"
	if err := os.WriteFile(aside, data, 0o600); err != nil {
		return err
	}
	return os.Rename(aside, d.file)
}
