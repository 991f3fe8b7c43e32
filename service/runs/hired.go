package runs

import (
	"math/big"
	"time"

	"github.com/google/uuid"
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
	for _, x := range p.Plan.ExtraSeats {
		days := max(1, p.SeatDays[x.Licence])
		for _, l := range p.Problem.Licences {
			if l.ID == x.Licence {
				price := l.ExtraSeatPrice.Scaled(big.NewRat(1, int64(days)))
				out = append(out, HiredSeats{run, x.Licence, now, x.Seats, price.Rat().FloatString(12), days})
			}
		}
	}
	return out
}
