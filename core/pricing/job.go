package pricing

import (
	"math/big"
	"sort"
	"time"
)

// LongerBy is what part longer than expected a frame that is being rendered at a farm is taken to need, before one took longer.
// What that costs is the margin: frames that were begun are billed by many farms though they are stopped.
var LongerBy = big.NewRat(1, 2)

// Margin is what a cap has to have left for the frames that are in work at once at a farm, beyond what they are expected to cost.
func Margin(hour Money, frame time.Duration, atOnce int) Money {
	return PerHour(hour, frame).Times(int64(atOnce)).Scaled(LongerBy)
}

// JobCost is how far a farm's job is, from which follows what it may still come to. Money is in the service's currency but
// for the prices and the farm's own charge.
type JobCost struct {
	Prices     Work
	Cores, MHz int
	Factor     *big.Rat // from the source's prices to what is paid
	Others     Money    // of the other jobs of its order, which count towards the minimum charge

	Nodes   int
	Planned time.Duration // that a frame was expected to take

	NodeTime time.Duration   // that the farm counted, failed tries included
	Charge   Money           // that it says
	Done     int             // frames
	Longest  time.Duration   // of the tries that ended
	Begun    []time.Duration // for how long each frame that is in work has been so
	Ahead    time.Duration   // what is still rendered until a stop takes effect
}

// sure is how many frames what was planned counts as, beside those that were rendered.
const sure = 4

// Frame is what a frame takes there, its failed tries included: as planned at first, more and more as it was seen.
func (j JobCost) Frame() time.Duration {
	return (sure*j.Planned + j.NodeTime) / time.Duration(sure+j.Done)
}

// long is what a frame takes that takes long.
func (j JobCost) long() time.Duration {
	longer, _ := new(big.Rat).Add(big.NewRat(1, 1), LongerBy).Float64()
	return max(j.Longest, time.Duration(float64(j.Frame())*longer))
}

// costs is what so much more time of so many frames comes to at the farm's prices; frames is how many are charged of them.
func (j JobCost) costs(each time.Duration, of, frames int) Money {
	return PerHour(j.Prices.Hour(j.Cores, j.MHz), each).Times(int64(of)).Plus(j.Prices.Frame.Times(int64(frames)))
}

// after is what the job comes to after more work. Where the farm charged more than its prices say, it is taken to go on so.
func (j JobCost) after(more Money) Money {
	least := j.Prices.MinimumCharge
	soFar := j.costs(j.NodeTime, 1, j.Done)
	if j.Charge.Cmp(soFar.Max(least)) > 0 {
		if !soFar.IsZero() {
			more = more.Scaled(new(big.Rat).Quo(j.Charge.Rat(), soFar.Rat()))
		}
		soFar = j.Charge
	}
	return soFar.Plus(more).Scaled(j.Factor).Max(least.Scaled(j.Factor).Minus(j.Others))
}

// Stopped is what the job comes to if it is stopped now, and what was begun is billed, or done before it stops.
func (j JobCost) Stopped() Money {
	var more Money
	for _, so := range j.Begun {
		more = more.Plus(j.costs(so+j.Ahead, 1, 1))
	}
	return j.after(more)
}

// With is what the job may come to with so many frames that are not begun: all as is expected, or, as nothing that is in work
// can be undone, those of one more round with those in work as if they took long.
func (j JobCost) With(waiting int) Money {
	all := len(j.Begun) + waiting
	expected := j.costs(j.Frame(), all, all)
	round := min(waiting, j.Nodes)
	more := j.costs(j.long(), round, len(j.Begun)+round)
	for _, so := range j.Begun {
		more = more.Plus(j.costs(max(j.long(), so+j.Ahead), 1, 0))
	}
	return j.after(expected.Max(more))
}

// Keeps is how many of the frames that wait at the farm it may keep for what is left to spend on it, and whether it has to stop
// at once: else it would come to more before it can be asked again.
func (j JobCost) Keeps(waiting int, left Money) (keep int, stop bool) {
	if len(j.Begun) > 0 && j.Stopped().Cmp(left) > 0 {
		return 0, true
	}
	// What it comes to rises with the frames.
	return sort.Search(waiting, func(n int) bool { return j.With(n+1).Cmp(left) > 0 }), false
}
