// Package accounts says what runs cost: by entry, by place and by source, planned and
// charged. It reads what queue, rental, farms and sources have written, and the plan that a
// run carries out, and writes nothing itself; the rules by which entries are made are
// core/ledger's.
package accounts

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"
	lru "github.com/hashicorp/golang-lru/v2"
	"gorm.io/gorm"

	"rotanex.example/core/ledger"
	"rotanex.example/service/bookings"
	"rotanex.example/service/clock"
	"rotanex.example/service/farms"
	"rotanex.example/service/hosts"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/queue"
	"rotanex.example/service/rental"
	"rotanex.example/service/settled"
	"rotanex.example/service/states"
	"rotanex.example/service/store"
	"rotanex.example/service/tally"
)

// Accounts makes them.
type Accounts struct {
	store *store.Store
	clock clock.Clock
	queue *queue.Queue

	tallies *tally.Tallies

	plans *lru.Cache[string, Carried]
	kept  *settled.Kept[Book]
}

// keptPlans is of how many runs plans are kept.
const keptPlans = 64

// New makes it.
func New(s *store.Store, c clock.Clock, q *queue.Queue) *Accounts {
	plans, _ := lru.New[string, Carried](keptPlans) // fails for sizes below one
	return &Accounts{store: s, clock: c, queue: q, tallies: tally.New(s), plans: plans, kept: settled.New[Book](s, c, "book", bookWay)}
}

// Tallies are what runs are summed up in.
func (a *Accounts) Tallies() *tally.Tallies { return a.tallies }

// Run is what an account needs to know of its run.
type Run struct {
	ID        uuid.UUID
	PlanID    *uuid.UUID
	State     states.Run
	Cap       *string
	CreatedAt time.Time
	EndedAt   *time.Time
}

// Ended implements settled.Run.
func (r Run) Ended() (uuid.UUID, *time.Time) { return r.ID, r.EndedAt }

// Account is a run with everything that its cost rests on, read at one time.
type Account struct {
	Run
	Carried
	Now      time.Time
	Bookings []bookings.Booking
	Servers  []rental.Server
	Jobs     []farms.Job
	Hosts    map[string]hosts.Host
	Work     []tally.Sum // by crew, shot and day, that of a farm by its jobs
	Tally    tally.Tally

	charges []charge
	hired   []ledger.Hired
	proofs  map[uuid.UUID][]int
}

// find reads one run.
func (a *Accounts) find(ctx context.Context, id uuid.UUID) (Run, error) {
	var run Run
	err := a.runs(ctx).Where("id = ?", id).Take(&run).Error
	if store.Missing(err) {
		err = httpapi.NotFound(fmt.Sprintf("there is no run %s that carries a plan out; rotanex runs list shows them", id))
	}
	return run, err
}

// page reads a page of runs, the newest first.
func (a *Accounts) page(ctx context.Context, cursor *string, limit *int) ([]Run, string, error) {
	return httpapi.Newest(a.runs(ctx), "created_at", "id", func(r Run) (time.Time, uuid.UUID) { return r.CreatedAt, r.ID }, cursor, limit)
}

// runs are those that carry a plan out.
func (a *Accounts) runs(ctx context.Context) *gorm.DB {
	return a.store.WithContext(ctx).Select("id, plan_id, state, cap::text AS cap, created_at, ended_at").Where("plan_id IS NOT NULL")
}

// Of reads the account of a run.
func (a *Accounts) Of(ctx context.Context, id uuid.UUID) (s Account, err error) {
	if s.Run, err = a.find(ctx, id); err != nil {
		return s, err
	}
	if s.Carried, err = a.CarriedBy(ctx, s.PlanID, id); err != nil {
		return s, err
	}
	s.Now = a.clock.Now()
	db := a.store.WithContext(ctx)
	if s.Bookings, err = bookings.All(db, id); err != nil {
		return s, err
	}
	var all []hosts.Host
	for _, query := range []error{
		db.Where("run_id = ?", id).Order("id").Find(&s.Servers).Error,
		db.Where("run_id = ?", id).Order("from_at, id").Find(&s.Jobs).Error,
		db.Where("name IN (SELECT host FROM bookings WHERE run_id = ?)", id).Find(&all).Error,
		a.readMoney(ctx, &s),
	} {
		if query != nil {
			return s, query
		}
	}
	s.Hosts = map[string]hosts.Host{}
	for _, h := range all {
		s.Hosts[h.Name] = h
	}
	return s, nil
}
