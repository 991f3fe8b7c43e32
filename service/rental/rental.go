// Package rental looks after rented servers, from being asked for until their meter
// is closed. What time brings about moves a server from one state to the next, in
// one transaction; what has to be said to its source is a job sent in it. So a
// service may die at any point: after that the server is in one of its states, and
// what was to be said is said, perhaps twice.
package rental

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/core/leadtimes"
	"rotanex.example/core/pricing"
	"rotanex.example/core/stock"
	"rotanex.example/service/access"
	"rotanex.example/service/bookings"
	"rotanex.example/service/clock"
	"rotanex.example/service/events"
	"rotanex.example/service/hosts"
	"rotanex.example/service/jobs"
	"rotanex.example/service/loops"
	"rotanex.example/service/sources"
	"rotanex.example/service/standing"
	"rotanex.example/service/states"
	"rotanex.example/service/store"
)

// Config is what looking after servers needs of the service. All of it is wanted.
type Config struct {
	Store    *store.Store
	Clock    clock.Clock
	Feed     *events.Feed
	Hosts    *hosts.Hosts
	Access   *access.Access
	Sources  *sources.Sources
	Jobs     *jobs.Jobs
	Standing *standing.Standing
	Address  string // where servers' agents reach this service
	Owner    string // what all our servers are marked with at their sources
	Log      *slog.Logger
}

// Rental looks after the servers of all runs.
type Rental struct {
	store    *store.Store
	clock    clock.Clock
	feed     *events.Feed
	hosts    *hosts.Hosts
	access   *access.Access
	sources  *sources.Sources
	jobs     *jobs.Jobs
	standing *standing.Standing
	address  string
	owner    string
	log      *slog.Logger
	weighed  time.Time // when servers were held to the caps last, by the wall clock
}

// New makes it.
func New(c Config) *Rental {
	r := &Rental{c.Store, c.Clock, c.Feed, c.Hosts, c.Access, c.Sources, c.Jobs, c.Standing, c.Address, c.Owner, c.Log, time.Time{}}
	e := c.Jobs
	e.On(makeServer, r.make)
	e.On(keepImage, r.keep)
	e.On(lookAtServer, r.look)
	e.On(endServer, r.end)
	e.On(prolongServer, r.extend)
	e.On(sweepSource, r.sweepSource)
	return r
}

// server is a row that is being looked after.
type server struct {
	run             uuid.UUID
	id, offer, host string
	state           states.Server
	trouble         string
	from, to, paid  time.Time
	started         *time.Time
	tried           int
	runState        states.Run
	spec            stock.Offer
	agentSeen       *time.Time
	up, last        *time.Time    // when it came up; of one that stops, when it is ended whatever it renders
	committed       pricing.Money // what it is to come to
}

// lasts is for how long it may stand.
func (s server) lasts() time.Duration { return s.paid.Sub(s.from) }

// key names a server in jobs.
func (s server) key() string { return s.run.String() + " " + s.id }

func parseKey(key string) (run uuid.UUID, id string, err error) {
	text, id, _ := strings.Cut(key, " ")
	run, err = uuid.Parse(text)
	return run, id, err
}

// open reports whether the server's run is still being carried out.
func (s server) open() bool { return s.runState.Open() }

// overdue is when a server that was asked for should long be up.
func (s server) overdue() time.Time {
	return s.started.Add(leadtimes.GivenUp(time.Duration(s.spec.BootS+s.spec.SetupS) * time.Second))
}

// timeIsOver reports whether a server that was up has come to the end of what is paid.
func (s server) timeIsOver(now time.Time) bool {
	return s.agentSeen != nil && !now.Before(s.paid.Add(-time.Duration(s.spec.ShutdownS)*time.Second))
}

// silent is for how long, in real time, a server's agent may say nothing before its
// source is asked about it; unreachable, before it is given up whatever that says.
const (
	silent      = hosts.Lost
	unreachable = time.Minute
	lookEvery   = 10 * time.Second
)

// Sweep moves every server one step on if its time has come. Any number of
// services may do so at once: a row is one's own while it is looked at. With lenient
// set no server is given up for its silence: after we were away, agents first get the
// time to be heard.
func (r *Rental) Sweep(ctx context.Context, lenient bool) error {
	faults := []error{r.renewImages(ctx)}
	but := []string{} // servers that something is wrong with hold no other up
	for range 1000 {
		key, err := r.step(ctx, lenient, but)
		if err != nil {
			faults, but = append(faults, err), append(but, key)
		}
		if key == "" || ctx.Err() != nil {
			break
		}
	}
	return errors.Join(append(faults, r.weigh(ctx), r.sweepSources(ctx))...)
}

// step finds one server that is due for something, but for some, and does it. The key is the server's; "" for none.
func (r *Rental) step(ctx context.Context, lenient bool, but []string) (key string, err error) {
	err = r.store.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		now, wall := r.clock.Now(), r.clock.WallNow()
		s, found, err := due(tx, now, wall, r.lag(), lenient, but)
		if err != nil || !found {
			return err
		}
		key = s.key()
		return loops.Safely(func() error { return r.move(ctx, tx, s, now, wall) })
	})
	switch {
	case err != nil && key != "":
		err = fmt.Errorf("server %s: %w", key, err)
	case key != "":
		r.feed.Wake(events.Changes, events.Work)
	}
	return key, err
}

func (r *Rental) move(ctx context.Context, tx *gorm.DB, s server, now, wall time.Time) error {
	switch s.state {
	case states.ServerPlanned:
		return r.ask(ctx, tx, s, now)
	case states.ServerStarting:
		return r.whileStarting(ctx, tx, s, now)
	case states.ServerUp:
		return r.whileUp(ctx, tx, s, now, wall)
	default: // stopping, and it renders nothing any more, or its time is over
		return r.whileStopping(ctx, tx, s, now)
	}
}

// ask has a server made whose time has come, if its money is not too much.
func (r *Rental) ask(ctx context.Context, tx *gorm.DB, s server, now time.Time) error {
	if !s.open() {
		return r.set(ctx, tx, s, states.ServerNotStarted, "")
	}
	cost, err := r.charge(tx, s, s.to.Sub(s.from))
	if err != nil {
		return r.set(ctx, tx, s, states.ServerNotStarted, err.Error()) // what cannot be priced is not bought
	}
	why, err := r.sources.Beyond(tx, s.run, s.spec.Source, cost, "server "+s.id)
	if err != nil {
		return err
	}
	if why != "" {
		return r.set(ctx, tx, s, states.ServerNotStarted, why)
	}
	if err := errors.Join(asked(tx, s, cost, now), r.noted(tx, s, "rented a server", cost)); err != nil {
		return err
	}
	if late := now.Sub(s.from); late > 0 {
		// What is paid for begins now, so it ends later as well.
		if err := postpone(tx, s, late); err != nil {
			return err
		}
		if err := bookings.Postpone(tx, s.run, s.host, late); err != nil {
			return err
		}
	}
	return errors.Join(r.set(ctx, tx, s, states.ServerRequested, ""), r.jobs.Send(ctx, tx, makeServer, s.key()))
}

func (r *Rental) whileStarting(ctx context.Context, tx *gorm.DB, s server, now time.Time) error {
	switch {
	case s.open() && s.agentSeen != nil && s.paid.After(now):
		if err := s.note(tx, "up_at", now); err != nil {
			return err
		}
		return errors.Join(r.set(ctx, tx, s, states.ServerUp, ""), r.jobs.Send(ctx, tx, keepImage, s.key()))
	case !s.open():
		return r.set(ctx, tx, s, states.ServerStopping, "")
	case s.overdue().Before(s.paid) && !now.Before(s.overdue()):
		return r.set(ctx, tx, s, states.ServerStopping, fmt.Sprintf("it was not up %s after it was asked for", now.Sub(*s.started).Round(time.Minute)))
	case s.agentSeen == nil:
		return r.set(ctx, tx, s, states.ServerStopping, "it was not up by the end of its booked time")
	}
	return r.set(ctx, tx, s, states.ServerStopping, "")
}

func (r *Rental) whileUp(ctx context.Context, tx *gorm.DB, s server, now, wall time.Time) error {
	if s.open() && s.agentSeen != nil && now.Before(s.paid.Add(-time.Duration(s.spec.ShutdownS)*time.Second)) {
		switch quiet := wall.Sub(*s.agentSeen); {
		case quiet > unreachable:
			return r.set(ctx, tx, s, states.ServerStopping, "its agent could not be reached any more")
		case quiet > silent:
			return errors.Join(s.note(tx, "looked_at", wall), r.jobs.Send(ctx, tx, lookAtServer, s.key()))
		}
	}
	stays, why, err := r.staysOn(ctx, tx, s, now, wall)
	if err != nil || stays {
		return err
	}
	return r.set(ctx, tx, s, states.ServerStopping, why)
}

// set moves a server to a state.
func (r *Rental) set(ctx context.Context, tx *gorm.DB, s server, state states.Server, trouble string) error {
	r.log.Info("server", "name", s.host, "state", state, "run", s.run, "trouble", trouble)
	if err := setState(tx, s, state, trouble); err != nil {
		return err
	}
	if state == states.ServerStopping {
		if err := hosts.Drain(tx, s.host); err != nil {
			return err
		}
	}
	return r.feed.Write(tx, events.Event{Kind: events.Server, Run: s.run.String(), Host: s.host, State: string(state), Cause: trouble})
}

// replacements is how many servers may take the place of one, one after another.
const replacements = 2

// replace plans a new server in the place of one that failed, for the frames that it
// still owes, as long as it was to be.
func (r *Rental) replace(ctx context.Context, tx *gorm.DB, s server, now time.Time) error {
	if s.trouble == "" || !s.open() || s.timeIsOver(now) || s.tried >= replacements {
		return nil
	}
	work, err := bookings.Owed(tx, s.run, s.host)
	if err != nil || work == 0 {
		return err
	}
	lead, wrap := time.Duration(s.spec.BootS+s.spec.SetupS)*time.Second, time.Duration(s.spec.ShutdownS)*time.Second
	to := now.Add(lead + work + wrap)
	paid := now.Add(s.spec.Meter().Billed(to.Sub(now)))
	base, _, _ := strings.Cut(s.id, "^")
	name, suffix, _ := strings.Cut(s.host, ".")
	name, _, _ = strings.Cut(name, "-again")
	next := server{run: s.run, id: fmt.Sprintf("%s^%d", base, s.tried+1), host: fmt.Sprintf("%s-again%d.%s", name, s.tried+1, suffix)}
	planned := Server{RunID: s.run, ID: next.id, Offer: s.offer, Host: next.host, State: states.ServerPlanned, FromAt: now, ToAt: to, PaidAt: paid, Tried: s.tried + 1}
	if err := tx.Create(&planned).Error; err != nil {
		return err
	}
	if err := bookings.Replace(tx, s.run, s.host, next.host, now.Add(lead), to.Add(-wrap), paid.Add(-wrap)); err != nil {
		return err
	}
	return r.feed.Write(tx, events.Event{Kind: events.Server, Run: s.run.String(), Host: next.host, State: string(states.ServerPlanned), Cause: "in the place of " + s.host})
}
