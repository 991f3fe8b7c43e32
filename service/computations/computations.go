// Package computations answers questions that take the planner's or the forecast's time.
// No request computes: it asks, waits a little for the answer, and where that takes longer
// is told how far it is, and asks again.
//
//	c.On("curve", func(ctx context.Context, question []byte, say questions.Progress) (any, error) { … })
//	one, err := c.Ask(ctx, computations.Question{ID: id, Kind: "curve", About: "plan 84996235", Input: …}, 10*time.Second)
//	if one.State == computations.Done { one.Read(&curve) }
//
// A question is known by its id: the same one is computed once, whoever asks, and its
// answer is kept in the database until it is old. So it outlives its request, its asker and
// the service, whose next start takes up what was under way. Each service computes a few at
// once, and a token may have so many open that nobody can fill the queue. docs/architecture.md
// has the states with their transitions.
package computations

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"sync"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/core/planning/questions"
	"rotanex.example/service/access"
	"rotanex.example/service/clock"
	"rotanex.example/service/events"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/jobs"
	"rotanex.example/service/loops"
	"rotanex.example/service/store"
)

// State of a computation.
type State string

// States. The last three end it.
const (
	Waiting   State = "waiting"   // for a service to take it up
	Computing State = "computing" // by a service
	Done      State = "done"      // its answer is there
	Failed    State = "failed"    // its problem says why
	Cancelled State = "cancelled" // by a person
)

// Ended reports whether nothing more comes of it.
func (s State) Ended() bool { return s == Done || s == Failed || s == Cancelled }

const (
	// mostOpen is how many computations of one token wait or are computed at once.
	mostOpen = 8
	// mostStarts is how often a computation is begun: one that takes the service down
	// with it does not do so for ever.
	mostStarts = 3
	// beat is how often, in real time, progress is written and a cancel is seen.
	beat = time.Second
	// kept is how long what has ended is kept, in the service's time.
	kept = 24 * time.Hour
	// look is how often, in real time, who waits looks by itself.
	look = time.Second

	kind  = "computation" // of job
	topic = "computations"
)

// Question is what is to be computed.
type Question struct {
	ID    uuid.UUID // the same question has the same id
	Kind  string    // names the worker
	About string    // in words, for whoever looks at what is being computed
	// Input is what the worker is given, as JSON; asked for only if it has to be computed.
	Input func(ctx context.Context) (any, error)
	// Valid is how long an answer is good, in the service's time; 0 is for ever.
	Valid time.Duration
}

// Worker computes the answer to a question. An error that is a *httpapi.Problem is told
// to who asked. It may be called again after it was cut off.
type Worker func(ctx context.Context, question []byte, say questions.Progress) (answer any, err error)

// Computations looks after them.
type Computations struct {
	store   *store.Store
	clock   clock.Clock
	feed    *events.Feed
	jobs    *jobs.Jobs
	log     *slog.Logger
	workers map[string]Worker
}

// New makes it.
func New(s *store.Store, c clock.Clock, f *events.Feed, j *jobs.Jobs, log *slog.Logger) *Computations {
	x := &Computations{store: s, clock: c, feed: f, jobs: j, log: log, workers: map[string]Worker{}}
	j.OnLong(kind, x.compute)
	return x
}

// On says who computes the answers to a kind of question; before the jobs start.
func (c *Computations) On(kind string, do Worker) { c.workers[kind] = do }

// Ask has a question computed unless it is already or its answer is good still, and waits
// for the answer as long as it is told, in real time. A computation that has not ended then
// is returned as it is. One that failed or was cancelled is computed anew by the next who
// asks.
func (c *Computations) Ask(ctx context.Context, q Question, wait time.Duration) (Computation, error) {
	one, found, err := c.find(ctx, q.ID)
	if err != nil {
		return one, err
	}
	if !found || one.State == Failed || one.State == Cancelled || c.stale(one, q.Valid) {
		if err := c.send(ctx, q); err != nil {
			return one, err
		}
	}
	return c.wait(ctx, q.ID, wait)
}

func (c *Computations) stale(one Computation, valid time.Duration) bool {
	return valid > 0 && one.EndedAt != nil && c.clock.Now().Sub(*one.EndedAt) > valid
}

// send writes the question down and has it done.
func (c *Computations) send(ctx context.Context, q Question) error {
	who := access.From(ctx)
	input, err := q.Input(ctx)
	if err != nil {
		return err
	}
	question, err := json.Marshal(input)
	if err != nil {
		return err
	}
	return c.store.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		open, err := openOf(tx, who.TokenID)
		if err != nil {
			return err
		}
		if open >= mostOpen {
			return &httpapi.Problem{
				Status: http.StatusTooManyRequests, Title: "Too many computations",
				Detail: fmt.Sprintf("%d computations of yours are under way, and no more may be: wait for one, or end one (rotanex computations list)", open),
			}
		}
		fresh := Computation{
			ID: q.ID, Kind: q.Kind, About: q.About, AskedBy: who.Name, TokenID: who.TokenID,
			Question: string(question), State: Waiting, CreatedAt: c.clock.Now(),
		}
		begun, err := fresh.insert(tx)
		if err != nil || !begun {
			return err // somebody else asked the same at the same time
		}
		return c.jobs.Send(ctx, tx, kind, fresh.claim().String())
	})
}

// wait returns the computation once it has ended, or as it is after so long.
func (c *Computations) wait(ctx context.Context, id uuid.UUID, most time.Duration) (Computation, error) {
	ended := c.clock.After(most)
	for {
		woken := c.feed.Wait(topic)
		one, found, err := c.find(ctx, id)
		if err == nil && !found {
			err = unknown(id)
		}
		if err != nil || one.State.Ended() {
			return one, errors.Join(err, one.failure())
		}
		select {
		case <-ctx.Done():
			return one, ctx.Err()
		case <-ended:
			return one, nil
		case <-woken:
		case <-c.clock.After(look):
		}
	}
}

func unknown(id uuid.UUID) error {
	return httpapi.NotFound(fmt.Sprintf("there is no computation %s; rotanex computations list shows them", id))
}

// Cancel ends a computation that is under way. One that has ended stays as it is.
func (c *Computations) Cancel(ctx context.Context, id uuid.UUID) error {
	one, found, err := c.find(ctx, id)
	switch who := access.From(ctx); {
	case err != nil:
		return err
	case !found:
		return unknown(id)
	case who.Role == access.Viewer && one.TokenID != who.TokenID:
		return httpapi.Forbidden("a viewer may end a computation of its own only; this one was asked for by " + one.AskedBy)
	}
	return c.end(ctx, one.claim(), Cancelled, nil, nil)
}

// compute is the job: it has the worker compute, tells how far it is, and ends when it is
// cancelled. Cut off, it leaves the computation to be taken up again.
func (c *Computations) compute(ctx context.Context, text string) error {
	this, err := parseClaim(text)
	if err != nil {
		return err
	}
	one, open, err := c.begin(ctx, this)
	if err != nil || !open {
		return err
	}
	if one.Starts > mostStarts {
		why := fmt.Sprintf("the service ended %d times while it computed this; its log may say why", mostStarts)
		return c.end(ctx, this, Failed, nil, &problem{Status: http.StatusInternalServerError, Title: "Given up", Detail: why})
	}
	working, cancel := context.WithCancel(ctx)
	defer cancel()
	var said progress
	var beating sync.WaitGroup
	beating.Go(func() { c.beat(working, cancel, this, &said) })
	answer, err := c.work(working, one, said.say)
	cancelled := working.Err() != nil && ctx.Err() == nil
	cancel()
	beating.Wait()
	switch {
	case ctx.Err() != nil && !errors.Is(ctx.Err(), context.DeadlineExceeded):
		return ctx.Err() // the service stops: the next start takes it up
	case cancelled:
		return nil
	case ctx.Err() != nil:
		err = &httpapi.Problem{Status: http.StatusUnprocessableEntity, Title: "Too long", Detail: fmt.Sprintf("this was not computed within %v; ask for less of it, such as fewer shots or simulations", jobs.Longest)}
		ctx = context.WithoutCancel(ctx)
	}
	if err != nil {
		return c.end(ctx, this, Failed, nil, c.problemOf(one, err))
	}
	return c.end(ctx, this, Done, answer, nil)
}

// work calls the worker; a panic of it is its failure.
func (c *Computations) work(ctx context.Context, one Computation, say questions.Progress) (answer any, err error) {
	do := c.workers[one.Kind]
	if do == nil {
		return nil, fmt.Errorf("nobody computes %q", one.Kind)
	}
	err = loops.Safely(func() (err error) {
		answer, err = do(ctx, []byte(one.Question), say)
		return err
	})
	return answer, err
}

// progress is what a worker has said last.
type progress struct {
	sync.Mutex
	done, parts int
	doing       string
}

func (p *progress) say(done, all int, doing string) {
	p.Lock()
	defer p.Unlock()
	if doing != p.doing || done > p.done || all != p.parts {
		p.done, p.parts, p.doing = done, all, doing
	}
}

// beat writes progress down until ctx ends, and cancels when the computation was ended
// meanwhile.
func (c *Computations) beat(ctx context.Context, cancel func(), this claim, p *progress) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-c.clock.After(beat):
		}
		p.Lock()
		done, parts, doing := p.done, p.parts, p.doing
		p.Unlock()
		open, err := c.writeProgress(ctx, this, done, parts, doing)
		if err == nil && !open {
			cancel()
			return
		}
	}
}

// Sweep forgets what ended long ago.
func (c *Computations) Sweep(ctx context.Context) error {
	return c.forget(ctx, c.clock.Now().Add(-kept))
}
