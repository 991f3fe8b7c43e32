package runs

import (
	"context"
	"math/big"
	"time"

	"github.com/google/uuid"

	"rotanex.example/core/ledger"
	"rotanex.example/core/pricing"
	"rotanex.example/service/store"
)

// HiredSeats are extra seats of a licence pool that a run has from a time until it ends.
type HiredSeats struct {
	RunID  uuid.UUID `gorm:"primaryKey"`
	Pool   string    `gorm:"primaryKey"`
	FromAt time.Time `gorm:"primaryKey"`
	Seats  int
	Price  string // of one seat for one day
	Days   int    // for which they were planned
}

// TableName is GORM's hook.
func (HiredSeats) TableName() string { return "hired_seats" }

// hires are the extra seats that the plan hires, from now on.
func (p planned) hires(run uuid.UUID, now time.Time) []HiredSeats {
	var out []HiredSeats
	for _, x := range p.plan.ExtraSeats {
		days := max(1, p.seatDays[x.Licence])
		for _, l := range p.problem.Licences {
			if l.ID == x.Licence {
				price := l.ExtraSeatPrice.Scaled(big.NewRat(1, int64(days)))
				out = append(out, HiredSeats{run, x.Licence, now, x.Seats, price.Rat().FloatString(12), days})
			}
		}
	}
	return out
}

func (q *Runs) readHired(ctx context.Context, run uuid.UUID) ([]HiredSeats, error) {
	return store.Rows(q.store.WithContext(ctx).Raw("SELECT run_id, pool, from_at, seats, price::text, days FROM hired_seats WHERE run_id = $1 ORDER BY from_at, pool", run),
		func(row store.Row) (h HiredSeats, err error) {
			return h, row.Scan(&h.RunID, &h.Pool, &h.FromAt, &h.Seats, &h.Price, &h.Days)
		})
}

// seats are the hired seats as the ledger sees them, paid until a time.
func (h HiredSeats) seats(until time.Time) ledger.Hired {
	price, _ := pricing.ParseMoney(h.Price) // it is a number: PostgreSQL keeps it as one
	return ledger.Hired{Pool: h.Pool, Seats: h.Seats, Price: price, From: h.FromAt.UTC(), Days: h.Days, Until: until}
}

// overAt is when the run ended, or now.
func (s state) overAt() time.Time {
	if s.EndedAt != nil {
		return *s.EndedAt
	}
	return s.now
}
