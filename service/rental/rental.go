// Package rental brings rented servers up when a run's plan says so and ends them
// after it.
package rental

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"rotanex.example/api"
	"rotanex.example/core/stock"
	"rotanex.example/service/access"
	"rotanex.example/service/clock"
	"rotanex.example/service/events"
	"rotanex.example/service/hosts"
	"rotanex.example/service/store"
)

// Order asks a source for a server. Its name is ours and the same however often
// it is asked for, so that asking again after a crash makes no second server.
type Order struct {
	Name      string `json:"name"`
	Offer     string `json:"offer"`
	Service   string `json:"service"`    // where its agent finds us
	JoinToken string `json:"join_token"` // with which its agent joins as Name
}

// Status is what a source says of a server.
type Status struct {
	Name  string `json:"name"`
	Offer string `json:"offer"`
	State string `json:"state"` // booting, up or gone
}

// ErrGone says that the source has no such server, or none any more.
var ErrGone = errors.New("the source has no such server")

// Provider is a rented source. Every call may be repeated and then changes nothing.
type Provider interface {
	// Make asks for a server; one of that name that stands already is that server.
	Make(ctx context.Context, o Order) error
	// End ends a server; ending one that is gone is no error.
	End(ctx context.Context, name string) error
}

// Rental looks after the servers of all runs.
type Rental struct {
	store     *store.Store
	clock     clock.Clock
	feed      *events.Feed
	hosts     *hosts.Hosts
	access    *access.Access
	providers map[string]Provider // by source
	address   string
	log       *slog.Logger
	retry     map[string]time.Time // by host: not before, by the wall clock
}

// New makes it. Address is where servers' agents reach this service.
func New(s *store.Store, c clock.Clock, f *events.Feed, h *hosts.Hosts, a *access.Access, providers map[string]Provider, address string, log *slog.Logger) *Rental {
	return &Rental{s, c, f, h, a, providers, address, log, map[string]time.Time{}}
}

// Has reports whether servers of a source can be brought up.
func (r *Rental) Has(source string) bool { return r.providers[source] != nil }

// server is a row that is being looked after.
type server struct {
	run             uuid.UUID
	id, offer, host string
	state           string
	from, paid      time.Time
	runState        string
	spec            stock.Offer
	agentSeen       *time.Time
	leases          int
}

// patience is how long a source may take to answer.
const patience = 5 * time.Second

// backOff is how long a server is left alone after its source failed us.
const backOff = 5 * time.Second

// Sweep moves every server one step on if its time has come. Any number of
// services may do so at once: a row is one's own while it is looked at. A source
// that fails does not keep the servers of others waiting. It is for one caller at
// a time.
func (r *Rental) Sweep(ctx context.Context) error {
	var faults []error
	for range 1000 {
		moved, err := r.step(ctx)
		if err != nil {
			faults = append(faults, err)
		}
		if !moved || ctx.Err() != nil {
			break
		}
	}
	return errors.Join(faults...)
}

// resting lists the servers that are left alone for now.
func (r *Rental) resting() []string {
	names := []string{}
	for name, until := range r.retry {
		if r.clock.WallNow().After(until) {
			delete(r.retry, name)
		} else {
			names = append(names, name)
		}
	}
	return names
}

// step finds one server that is due for something and does it.
func (r *Rental) step(ctx context.Context) (moved bool, err error) {
	var s server
	err = pgx.BeginFunc(ctx, r.store.Pool, func(tx pgx.Tx) error {
		now := r.clock.Now()
		err := tx.QueryRow(ctx, `
			SELECT s.run_id, s.id, s.offer, s.host, s.state, s.from_at, s.paid_at, r.state, o.spec, h.agent_seen,
			       (SELECT count(*) FROM frames f WHERE f.host = s.host AND f.state = 'leased')
			FROM servers s JOIN runs r ON r.id = s.run_id JOIN offers o ON o.name = s.offer LEFT JOIN hosts h ON h.name = s.host
			WHERE NOT s.host = ANY($2) AND CASE s.state
				WHEN 'planned'  THEN s.from_at <= $1 OR r.state NOT IN ('running', 'paused')
				WHEN 'starting' THEN h.agent_seen IS NOT NULL OR r.state NOT IN ('running', 'paused') OR s.paid_at <= $1
				WHEN 'up'       THEN r.state NOT IN ('running', 'paused')
					OR s.paid_at - make_interval(secs => coalesce((o.spec->>'wrap_s')::int, 0)) <= $1
					OR (s.to_at - make_interval(secs => coalesce((o.spec->>'wrap_s')::int, 0)) <= $1
						AND NOT EXISTS (SELECT 1 FROM bookings b WHERE b.run_id = s.run_id AND b.host = s.host AND b.taken < b.frames))
				WHEN 'stopping' THEN NOT EXISTS (SELECT 1 FROM frames f WHERE f.host = s.host AND f.state = 'leased')
				ELSE false END
			ORDER BY s.from_at, s.run_id, s.id LIMIT 1 FOR UPDATE OF s SKIP LOCKED`, now, r.resting()).
			Scan(&s.run, &s.id, &s.offer, &s.host, &s.state, &s.from, &s.paid, &s.runState, &s.spec, &s.agentSeen, &s.leases)
		if err == pgx.ErrNoRows {
			return nil
		}
		if err != nil {
			return err
		}
		moved = true
		return r.move(ctx, tx, s, now)
	})
	if moved && err != nil {
		r.retry[s.host] = r.clock.WallNow().Add(backOff)
	} else if moved {
		r.feed.Wake(events.Changes, events.Work)
	}
	return moved, err
}

func (r *Rental) move(ctx context.Context, tx pgx.Tx, s server, now time.Time) error {
	open := s.runState == "running" || s.runState == "paused"
	switch {
	case s.state == "planned" && !open:
		return r.set(ctx, tx, s, "never", "")
	case s.state == "planned":
		if err := r.bringUp(ctx, s); err != nil {
			return fmt.Errorf("server %s of %s: %w", s.host, s.spec.Source, err)
		}
		_, err := tx.Exec(ctx, "UPDATE servers SET started_at = $3 WHERE run_id = $1 AND id = $2", s.run, s.id, now)
		if err != nil {
			return err
		}
		return r.set(ctx, tx, s, "starting", "")
	case s.state == "starting" && open && s.agentSeen != nil && s.paid.After(now):
		return r.set(ctx, tx, s, "up", "")
	case s.state == "starting" && open && s.agentSeen == nil:
		return r.set(ctx, tx, s, "stopping", "it was not up by the end of its booked time")
	case s.state == "starting" || s.state == "up":
		return r.set(ctx, tx, s, "stopping", "")
	default: // stopping, and nothing is rendered there any more
		if err := r.end(ctx, s); err != nil {
			return fmt.Errorf("server %s of %s: %w", s.host, s.spec.Source, err)
		}
		// With the server go its place in the stock and its agent's credential.
		for _, statement := range []string{
			"DELETE FROM hosts WHERE name = $1 AND server",
			"DELETE FROM tokens WHERE host = $1 AND kind IN ('agent', 'join')",
		} {
			if _, err := tx.Exec(ctx, statement, s.host); err != nil {
				return err
			}
		}
		if _, err := tx.Exec(ctx, "UPDATE servers SET stopped_at = $3 WHERE run_id = $1 AND id = $2", s.run, s.id, r.clock.Now()); err != nil {
			return err
		}
		return r.set(ctx, tx, s, "stopped", "")
	}
}

func (r *Rental) set(ctx context.Context, tx pgx.Tx, s server, state, trouble string) error {
	r.log.Info("server", "name", s.host, "state", state, "run", s.run)
	var b pgx.Batch
	b.Queue("UPDATE servers SET state = $3, trouble = CASE WHEN $4 = '' THEN trouble ELSE $4 END WHERE run_id = $1 AND id = $2", s.run, s.id, state, trouble)
	if state == "stopping" {
		b.Queue("UPDATE hosts SET draining = true WHERE name = $1", s.host)
	}
	if err := r.feed.Insert(&b, api.Event{Kind: api.EventKindServer, Run: s.run.String(), Host: s.host, State: state, Cause: trouble}); err != nil {
		return err
	}
	return tx.SendBatch(ctx, &b).Close()
}

func (r *Rental) bringUp(ctx context.Context, s server) error {
	provider := r.providers[s.spec.Source]
	if provider == nil {
		return fmt.Errorf("no way to the source: start the service with --rental %s=URL", s.spec.Source)
	}
	if err := r.hosts.Put(ctx, s.spec.Server(s.host), true); err != nil {
		return err
	}
	_, secret, err := r.access.JoinToken(ctx, s.host)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	return provider.Make(ctx, Order{Name: s.host, Offer: s.offer, Service: r.address, JoinToken: secret})
}

func (r *Rental) end(ctx context.Context, s server) error {
	provider := r.providers[s.spec.Source]
	if provider == nil {
		return fmt.Errorf("no way to the source: start the service with --rental %s=URL", s.spec.Source)
	}
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	return provider.End(ctx, s.host)
}
