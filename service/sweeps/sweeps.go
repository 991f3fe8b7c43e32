// Package sweeps times the crews of a shot that tell most, side by side on free
// agents, until every crew can be predicted well enough or the time that was given is
// over. A sweep is carried on by whichever service process looks at it next.
package sweeps

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"rotanex.example/core/timing"
	"rotanex.example/service/candidates"
	"rotanex.example/service/clock"
	"rotanex.example/service/events"
	"rotanex.example/service/hosts"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/shots"
	"rotanex.example/service/store"
	"rotanex.example/service/timings"
	"rotanex.example/service/trials"
)

// Sweeps looks after them.
type Sweeps struct {
	store      *store.Store
	clock      clock.Clock
	feed       *events.Feed
	shots      *shots.Shots
	trials     *trials.Trials
	candidates *candidates.Candidates
}

// New makes it.
func New(s *store.Store, c clock.Clock, f *events.Feed, sh *shots.Shots, t *trials.Trials, p *candidates.Candidates) *Sweeps {
	return &Sweeps{s, c, f, sh, t, p}
}

const (
	defaultBudget = 1800
	defaultGoal   = 1.35
	defaultFrames = 3
)

// Wanted is a sweep as a person asks for it. What is 0 is the usual.
type Wanted struct {
	Shot    string
	BudgetS float64 // of the service's time
	Goal    float64 // how many times the low end of an interval its high end may be
	Frames  int     // of a trial
	Request []byte
}

// Create begins a sweep. Of one that stands already under its id nothing changes.
func (q *Sweeps) Create(ctx context.Context, id uuid.UUID, want Wanted) (Swept, error) {
	shot, err := q.shots.Find(ctx, want.Shot)
	if err != nil {
		return Swept{}, err
	}
	s := Sweep{
		ID: id, Shot: want.Shot, Request: want.Request, State: "running", CreatedAt: q.clock.Now(),
		BudgetS: or(want.BudgetS, defaultBudget), Goal: or(want.Goal, defaultGoal), Frames: int(or(float64(want.Frames), defaultFrames)),
	}
	if there, err := q.repeats(ctx, s); err != nil || there {
		return q.foundUnless(ctx, id, err)
	}
	view, err := q.candidates.Of(ctx, shot)
	if err != nil {
		return Swept{}, err
	}
	s.Beyond = outOfTime(view, s.BudgetS)
	made := q.store.WithContext(ctx).Clauses(clause.OnConflict{DoNothing: true}).Create(&s)
	if made.Error == nil && made.RowsAffected == 0 { // the same was asked at the same time
		_, err := q.repeats(ctx, s)
		return q.foundUnless(ctx, id, err)
	}
	err = made.Error
	if err == nil {
		err = q.Advance(ctx)
	}
	return q.foundUnless(ctx, id, err)
}

// repeats reports whether a sweep was asked for before; under its id another one is a conflict.
func (q *Sweeps) repeats(ctx context.Context, s Sweep) (bool, error) {
	var old []Sweep
	if err := q.store.WithContext(ctx).Where("id = ?", s.ID).Limit(1).Find(&old).Error; err != nil || len(old) == 0 {
		return false, err
	}
	return true, httpapi.SameRequest(old[0].Request, s.Request)
}

func (q *Sweeps) foundUnless(ctx context.Context, id uuid.UUID, err error) (Swept, error) {
	if err != nil {
		return Swept{}, err
	}
	return q.Find(ctx, id)
}

func or(given, usual float64) float64 {
	if given == 0 {
		return usual
	}
	return given
}

// End lets a sweep begin no further trial.
func (q *Sweeps) End(ctx context.Context, id uuid.UUID) (Swept, error) {
	if err := q.stop(ctx, id, "ended", "ended by a person"); err != nil {
		return Swept{}, err
	}
	return q.Find(ctx, id)
}

func (q *Sweeps) stop(ctx context.Context, id uuid.UUID, state, why string) error {
	err := q.store.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if ended, err := end(tx, id, state, why, q.clock.Now()); err != nil || !ended {
			return err
		}
		return q.feed.Write(tx, events.Event{Kind: events.Trial, State: state})
	})
	q.feed.Wake(events.Changes)
	return err
}

// Advance carries every open sweep on: it begins the trials that tell most on hosts
// where none of the sweep's is running. Several services may do so at once: each sweep
// is looked at by one.
func (q *Sweeps) Advance(ctx context.Context) error {
	var open []Sweep
	if err := q.store.WithContext(ctx).Where("state = 'running'").Order("created_at").Find(&open).Error; err != nil {
		return err
	}
	for _, s := range open {
		err := q.store.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
			// Not the row's own lock: the trials that are begun refer to it.
			if mine, err := claim(tx, s.ID); err != nil || !mine {
				return err
			}
			return q.advance(ctx, s)
		})
		if err != nil {
			return fmt.Errorf("sweep of %s: %w", s.Shot, err)
		}
	}
	return nil
}

func (q *Sweeps) advance(ctx context.Context, s Sweep) error {
	own, err := q.trials.Of(ctx, "trials.sweep_id = ?", s.ID)
	if err != nil {
		return err
	}
	busy := map[string]bool{} // hosts on which a trial of the sweep is under way
	for _, t := range own {
		if t.Open() {
			busy[t.Host] = true
		}
	}
	left := s.BudgetS - q.clock.Now().Sub(s.CreatedAt).Seconds()
	if left <= 0 {
		return q.cutOff(ctx, s, own)
	}
	shot, err := q.shots.Find(ctx, s.Shot)
	if err != nil {
		return err
	}
	view, err := q.candidates.Of(ctx, shot)
	if err != nil {
		return err
	}
	next := q.choose(view, s, own, left)
	if len(next) == 0 {
		why := "every crew that could be timed is known well enough"
		if len(s.Beyond) > 0 {
			why = "every crew that could be timed in time is known well enough"
		}
		return q.finish(ctx, s, busy, why)
	}
	for _, c := range next {
		if busy[c.Place.Host] {
			continue
		}
		busy[c.Place.Host] = true
		ask := trials.Ask{
			ID: uuid.New(), Shot: shot, Host: c.Place.Host, Crew: c.Place.Crew, Repeats: 1, Sweep: &s.ID, Why: c.Why,
			Frames: shot.Frames().Sample(framesIn(left, c.Seconds, s.Frames)), Request: httpapi.Fingerprint(c.Place),
		}
		if err := q.trials.Begin(ctx, ask); err != nil {
			return err
		}
	}
	return nil
}

// warmUp is how many frames a trial renders before those that count.
const warmUp = 1

// framesIn is how many timed frames of a trial fit into the time left, at least one, where
// a frame takes so long; of an unknown time all that are wanted.
func framesIn(left, frame float64, wanted int) int {
	if frame <= 0 {
		return wanted
	}
	return max(1, min(wanted, int(left/frame)-warmUp))
}

// outOfTime lists the crews of which a trial of a single frame is not over within so many
// seconds, as far as that is known, so that it is said before anything is timed.
func outOfTime(view candidates.View, seconds float64) []beyond {
	out := []beyond{}
	for _, x := range view.All {
		if x.Place.Host == nil || !timeable(x) || !x.Known || fits(x, seconds) {
			continue
		}
		out = append(out, beyond{x.Name(), fmt.Sprintf("a frame takes about %v there, and one that warms it up as long again", time.Duration(x.Estimate.Alone().Seconds*float64(time.Second)).Round(time.Second))})
	}
	return out
}

// fits reports whether a trial of one frame is over within so many seconds, by the low end
// of what is expected.
func fits(x candidates.Candidate, seconds float64) bool {
	return (1+warmUp)*x.Estimate.Alone().Low <= seconds
}

// timeable reports whether a trial can be begun on a crew now.
func timeable(x candidates.Candidate) bool {
	return x.Blocked() == nil || x.Blocked().Check == "deadline"
}

// cutOff ends a sweep whose time is over, and with it the trials that still run: frames
// that are timed stay, the one that is rendered is given up.
func (q *Sweeps) cutOff(ctx context.Context, s Sweep, own []trials.Outcome) error {
	why := fmt.Sprintf("its %.0f s are over", s.BudgetS)
	if s.BudgetS >= 120 {
		why = fmt.Sprintf("its %.0f min are over", s.BudgetS/60)
	}
	cut := 0
	for _, t := range own {
		if t.Open() {
			var over *httpapi.Problem
			if err := q.trials.Cancel(ctx, t.RunID); errors.As(err, &over) && over.Status == http.StatusConflict {
				continue // it ended by itself just now
			} else if err != nil {
				return err
			}
			cut++
		}
	}
	if cut == 1 {
		why += "; one trial was cut off"
	} else if cut > 1 {
		why += fmt.Sprintf("; %d trials were cut off", cut)
	}
	return q.stop(ctx, s.ID, "complete", why)
}

// finish ends the sweep once none of its trials runs any more.
func (q *Sweeps) finish(ctx context.Context, s Sweep, busy map[string]bool, why string) error {
	if len(busy) > 0 {
		return nil
	}
	return q.stop(ctx, s.ID, "complete", why)
}

// choose lists the crews to time next. A crew that the sweep has timed, or failed to,
// is not tried again.
func (q *Sweeps) choose(view candidates.View, s Sweep, own []trials.Outcome, left float64) []timing.Choice {
	var all []timing.Candidate
	for _, x := range view.All {
		if x.Place.Host == nil || !timeable(x) || x.Known && !fits(x, left) {
			continue
		}
		seconds := x.Estimate.Alone().Seconds
		if !x.Known {
			seconds = float64(len(x.Crew.Devices)) // a larger crew is not the first to be asked
		}
		all = append(all, timing.Candidate{Place: hosts.TimingPlace(x.Place.Spec, x.Crew, x.Backend, view.Shot.Spec.Launcher), Seconds: seconds, AtOnce: x.Fit.Renderers})
	}
	measured := map[string]bool{}
	for _, r := range view.Known.Of(view.Shot) {
		measured[r.Host+"/"+r.Crew()] = true
	}
	return timing.Next(view.Known.Model, timings.Subject(view.Shot), all, func(p timing.Place) bool {
		return measured[p.Host+"/"+p.Crew] || slices.ContainsFunc(own, func(t trials.Outcome) bool { return t.Host == p.Host && t.Crew == p.Crew })
	}, s.Goal)
}

// Swept is a sweep with its trials.
type Swept struct {
	Sweep
	Trials []trials.Outcome
}

func (q *Sweeps) with(ctx context.Context, s Sweep) (Swept, error) {
	own, err := q.trials.Of(ctx, "trials.sweep_id = ?", s.ID)
	return Swept{s, own}, err
}

// Find returns a sweep, or a problem that names it.
func (q *Sweeps) Find(ctx context.Context, id uuid.UUID) (Swept, error) {
	var found []Sweep
	err := q.store.WithContext(ctx).Where("id = ?", id).Limit(1).Find(&found).Error
	if err == nil && len(found) == 0 {
		err = httpapi.NotFound(fmt.Sprintf("there is no sweep %s; rotanex sweeps list shows them", id))
	}
	if err != nil {
		return Swept{}, err
	}
	return q.with(ctx, found[0])
}

// page returns a page of sweeps, newest first.
func (q *Sweeps) page(ctx context.Context, cursor *string, limit *int) (out []Swept, next string, err error) {
	found, next, err := httpapi.Newest(q.store.WithContext(ctx), "created_at", "id",
		func(x Sweep) (time.Time, uuid.UUID) { return x.CreatedAt, x.ID }, cursor, limit)
	for _, s := range found {
		one, err := q.with(ctx, s)
		if err != nil {
			return nil, "", err
		}
		out = append(out, one)
	}
	return out, next, err
}
