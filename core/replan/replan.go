// Package replan decides when what is left of a run is planned anew, and whether the new
// schedule takes the place of the one that the run goes by.
//
//	if replan.Due(present, wanted) {
//		v := replan.Decide(replan.Auto, present, next, replan.Limits{Wanted: wanted, Spare: spare})
//		// v.Act is Keep, Change or Propose; v.Why says it in words
//	}
//
// A schedule is left as it is unless another one saves a deadline, or money that is worth
// it: what is moved costs uploads, boots and people's trust.
package replan

import (
	"cmp"
	"fmt"
	"math/big"
	"slices"
	"strings"
	"time"

	"rotanex.example/core/forecast"
	"rotanex.example/core/planning"
	"rotanex.example/core/pricing"
)

// Policy says how far a run is planned anew by itself.
type Policy string

// Policies.
const (
	Auto Policy = "auto" // within its cap
	Ask  Policy = "ask"  // never: what would be better is proposed
	Off  Policy = "off"  // never, and nothing is looked at
)

// ParsePolicy reads one; "" is the given default.
func ParsePolicy(word string, usual Policy) (Policy, error) {
	switch p := Policy(word); p {
	case "":
		return usual, nil
	case Auto, Ask, Off:
		return p, nil
	}
	return "", fmt.Errorf("policy %q: want auto, ask or off", word)
}

const (
	// Usual is the chance to be in time that a run is held to, unless its plan was asked
	// for with another.
	Usual = 0.8
	// leastSurer is what a new schedule has to add to the chance at least: forecasts of a few
	// hundred simulations differ by as much by luck.
	leastSurer = 0.02
	// leastChance is what a new schedule has to add to the chance, where it does not bring it
	// to what is wanted: forecasts of a few hundred simulations differ by less by luck.
	leastChance = 0.1
	// leastEarlier is the part of the time left by which a new schedule has to end earlier,
	// where neither is in time.
	leastEarlier = 0.1
)

// leastSaved is the part of what the rest costs that a new schedule has to save, and
// leastSum what it has to save at least, so that nothing is moved for cents.
var leastSaved, leastSum = big.NewRat(1, 10), pricing.MustMoney("0.50")

// Outlook is what is expected of a schedule for what is left of a run.
type Outlook struct {
	Chance  float64       // that every shot is in time
	Behind  float64       // that servers are to be let at once for that: see forecast.Forecast
	Finish  time.Time     // in the middle of what was simulated; zero: never
	Cost    pricing.Money // of the rest
	Outside pricing.Money // of that, for servers, farms and seats
	Margin  pricing.Money // by which farms may come to more: see planning.Margin
	// Expected is the rest's cost in the mean of what was simulated, with what is let on the way.
	Expected float64
}

// atMost is what has to be left of the cap for it.
func (o Outlook) atMost() pricing.Money { return o.Outside.Plus(o.Margin) }

// Limits are what a new schedule is held against.
type Limits struct {
	Now      time.Time
	Wanted   float64        // chance to be in time
	Spare    *pricing.Money // what of the cap is neither spent nor promised; nil: nothing may be spent outside
	Missed   float64        // what a missed deadline is taken to cost; 0: more than anything
	Currency string
}

// pays reports whether what the next schedule adds to the chance is worth what it is expected to
// cost more.
func (l Limits) pays(present, next Outlook) bool {
	return l.Missed == 0 || next.Expected-present.Expected <= l.Missed*(next.Chance-present.Chance)
}

// short is by how much a chance has to be below what is wanted for frames to be moved: the
// chances of a run go up and down by as much while all goes as expected.
const short = 0.05

// behind is how probable it has to be that more is to be let at once for it to be.
const behind = 0.5

// Due reports whether a schedule falls short of what was asked for, or is late unless something
// is done now.
func Due(present Outlook, wanted float64) bool {
	return present.Chance < wanted-short || present.Behind > behind
}

// enough reports whether a schedule is as sure as was asked for, and needs nothing now.
func enough(o Outlook, wanted float64) bool { return o.Chance >= wanted && o.Behind <= behind }

// Act is what is to be done.
type Act int

// Acts.
const (
	Keep    Act = iota // the schedule stays
	Change             // the new one takes its place
	Propose            // a person is asked
)

// Verdict is what is to be done, and why.
type Verdict struct {
	Act  Act
	Gain string        // what the new schedule is better in; "" for nothing
	More pricing.Money // that it takes beyond the cap
}

// Decide says whether the next schedule takes the place of the present one.
func Decide(policy Policy, present, next Outlook, l Limits) Verdict {
	v := Verdict{Gain: gain(present, next, l)}
	if v.Gain == "" || policy == Off {
		return v
	}
	var spare pricing.Money
	if l.Spare != nil {
		spare = *l.Spare
	}
	if next.atMost().Cmp(spare) > 0 {
		v.Act, v.More = Propose, next.atMost().Minus(spare)
		return v
	}
	if v.Act = Change; policy == Ask {
		v.Act = Propose
	}
	return v
}

// gain says in words what the next schedule is better in, if that is worth a change.
func gain(present, next Outlook, l Limits) string {
	chances := fmt.Sprintf("%s to be in time instead of %s", forecast.Percent(next.Chance), forecast.Percent(present.Chance))
	switch {
	case present.Chance > luck && next.Chance > present.Chance && !l.pays(present, next):
		return ""
	case present.Chance < l.Wanted && next.Chance >= max(l.Wanted, present.Chance+leastSurer), present.Chance < l.Wanted && next.Chance >= present.Chance+leastChance:
		return chances
	case present.Chance < l.Wanted && next.Chance >= present.Chance && earlier(present, next, l.Now):
		if present.Finish.IsZero() {
			return "it ends, which it would not"
		}
		return fmt.Sprintf("it ends %.0f min earlier", present.Finish.Sub(next.Finish).Minutes())
	case present.Behind > behind && enough(next, l.Wanted):
		return fmt.Sprintf("it is not behind any more, and %s to be in time", forecast.Percent(next.Chance))
	case next.Chance < l.Wanted:
		return "" // what is cheaper and late is no gain
	}
	if !worth(present.Cost, next.Cost) || l.Missed > 0 && !savesInAll(present.Expected, next.Expected) {
		return ""
	}
	return fmt.Sprintf("%s %s less for the rest, and as surely in time", l.Currency, present.Cost.Minus(next.Cost).Rounded())
}

// worth reports whether the next cost is enough below the present one for frames to be moved.
func worth(present, next pricing.Money) bool {
	saved := present.Minus(next)
	return saved.Cmp(present.Scaled(leastSaved)) >= 0 && saved.Cmp(leastSum) >= 0
}

// savesInAll is worth for what schedules are expected to cost with what is let on the way.
func savesInAll(present, next float64) bool {
	part, _ := leastSaved.Float64()
	return present-next >= max(part*present, leastSum.Float())
}

// earlier reports whether the next schedule ends earlier by enough.
func earlier(present, next Outlook, now time.Time) bool {
	if next.Finish.IsZero() {
		return false
	}
	if present.Finish.IsZero() {
		return true
	}
	left := present.Finish.Sub(now)
	return present.Finish.Sub(next.Finish).Seconds() >= max(120, left.Seconds()*leastEarlier)
}

// Move is by how many frames of a shot a crew has more in one schedule than in another; below
// 0: less. Its place is a host, an offer or a farm.
type Move struct {
	Shot   string `json:"shot"`
	Place  string `json:"place"`
	Crew   string `json:"crew,omitempty"`
	Frames int    `json:"frames"`
}

// Moves lists who has more or less in a schedule than in the one before, the most first. Frames
// are alike, so which of them they are does not matter.
func Moves(before, after planning.Plan) []Move {
	by := map[Move]int{}
	count := func(p planning.Plan, sign int) {
		offer := map[string]string{}
		for _, v := range p.Servers {
			offer[v.ID] = v.Offer
		}
		for _, b := range p.Bookings {
			by[Move{Shot: b.Shot, Place: b.Host + offer[b.Server] + b.Farm, Crew: b.Crew}] += sign * b.Frames
		}
	}
	count(before, -1)
	count(after, 1)
	var out []Move
	for m, n := range by {
		if m.Frames = n; n != 0 {
			out = append(out, m)
		}
	}
	slices.SortFunc(out, func(a, b Move) int {
		return cmp.Or(max(b.Frames, -b.Frames)-max(a.Frames, -a.Frames), strings.Compare(a.Place, b.Place), strings.Compare(a.Crew, b.Crew), strings.Compare(a.Shot, b.Shot))
	})
	return out
}

// Moved counts, of the frames that a schedule has for crews, those that another one has for
// other crews.
func Moved(before, after planning.Plan) (frames int) {
	for _, m := range Moves(before, after) {
		frames += max(0, -m.Frames)
	}
	return frames
}

// WithinOwn is the problem without what money could buy: no more servers, farms and seats.
// Servers that are paid for are hosts of a run's rest, and stay.
func WithinOwn(p planning.Problem) planning.Problem {
	p.Offers, p.Farms, p.Transfers = nil, nil, nil
	p.Timings = slices.DeleteFunc(slices.Clone(p.Timings), func(t planning.Timing) bool { return t.Host == "" })
	p.Licences = slices.Clone(p.Licences)
	for i := range p.Licences {
		p.Licences[i].ExtraSeats = 0
	}
	return p
}

// WithoutNewFarms is the problem without the farms at which the present schedule has nothing:
// their proof frames wait for somebody who looks at them, and what is booked there with them.
func WithoutNewFarms(p planning.Problem, present planning.Plan) planning.Problem {
	at := farmsOf(present)
	p.Farms = slices.DeleteFunc(slices.Clone(p.Farms), func(f planning.Farm) bool { return !at[f.ID] })
	p.Timings = slices.DeleteFunc(slices.Clone(p.Timings), func(t planning.Timing) bool { return !at[t.Farm] })
	return p
}

// NewFarms reports whether a schedule has frames at farms at which the present one has none.
func NewFarms(present, next planning.Plan) bool {
	had := farmsOf(present)
	return slices.ContainsFunc(next.Bookings, func(b planning.Booking) bool { return !had[b.Farm] })
}

// farmsOf are the farms that a schedule has frames at, and "", the farm of what is at none.
func farmsOf(p planning.Plan) map[string]bool {
	out := map[string]bool{"": true}
	for _, b := range p.Bookings {
		out[b.Farm] = true
	}
	return out
}
