package planning

import "rotanex.example/core/pricing"

const hourMillis = 3_600_000

func perFrame(price pricing.Money, frame Millis) float64 {
	return price.Float() * float64(frame) / hourMillis
}

// rent is how a server is paid, in numbers that are quick to work with.
type rent struct {
	lead, wrap, increment, minimum Millis
	price                          float64 // of a millisecond
	fee                            float64
}

func newRent(o Offer) rent {
	r := rent{lead: o.Lead, wrap: o.Wrap, increment: 1000, minimum: o.Minimum, price: o.Price.Float() / hourMillis, fee: o.Fee.Float()}
	if o.Increment != nil {
		r.increment = *o.Increment
	}
	return r
}

// bill returns for how long a server is paid that runs for the given time, and
// what it costs.
func (r rent) bill(runs Millis) (Millis, float64) {
	billed := max(r.minimum, (runs+r.increment-1)/r.increment*r.increment)
	return billed, float64(billed)*r.price + r.fee
}

// paid returns the longest a server may run for what it costs to run for the
// given time.
func (r rent) paid(runs Millis) Millis {
	billed, _ := r.bill(runs)
	return max(billed/r.increment*r.increment, runs)
}

// shortest is the longest that a server may run for its minimum charge.
func (r rent) shortest() Millis { return r.paid(1) }

// stepped reports whether increments are so long that it matters to pay for a
// whole number of them.
func (r rent) stepped() bool {
	return r.increment >= 60_000 && r.minimum%r.increment == 0
}
