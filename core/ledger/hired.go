package ledger

import (
	"fmt"
	"time"

	"rotanex.example/core/pricing"
)

// Hired is extra seats of a licence pool. Each day that is begun is paid, the first
// whatever happens.
type Hired struct {
	Pool  string
	Seats int
	Price pricing.Money // of one seat for one day
	From  time.Time
	Days  int       // for which they were planned
	Until time.Time // when the run ended, or now
}

const day = 24 * time.Hour

// Entries accounts for hired seats day by day: the days planned and the days paid.
func (h Hired) Entries() (out []Entry) {
	paid := max(1, int((h.Until.Sub(h.From)+day-1)/day))
	cost := h.Price.Times(int64(h.Seats))
	for n := range max(paid, h.Days) {
		e := Entry{Place: h.Pool, Kind: Seats, Day: h.From.UTC().Add(time.Duration(n) * day).Truncate(day), Why: fmt.Sprintf("%d extra seats for a day", h.Seats)}
		if h.Seats == 1 {
			e.Why = "an extra seat for a day"
		}
		if n < h.Days {
			e.Estimated = cost
		} else {
			e.Why += "; the run went on for longer than planned"
		}
		if n < paid {
			e.Charged = cost
		} else {
			e.Why += ", not begun"
		}
		out = append(out, e)
	}
	return out
}
