// Package forecast says how sure a plan is: it simulates the run many times, with frame
// times that vary, servers that boot late, farms that queue and frames that fail, by the
// rule by which runs hand frames out (core/simulate), and counts how often it is in time
// and what it costs. Host memory, licence seats, open hours, reserves and how often a
// frame may fail hold as they do in a run; hosts are slowed and lost, and shots grow heavier,
// as often as core/disruptions expects. Caps on money are not looked at.
//
//	f, err := forecast.Simulate(ctx, problem, plan, forecast.Uncertainty{}, nil, forecast.Options{})
//	fmt.Println(f.Chance, f.Finish.P90)
//
// The same seed gives the same forecast, on any number of cores.
package forecast

import (
	"context"
	"errors"
	"math"
	"math/rand/v2"
	"runtime"
	"slices"
	"sync/atomic"

	"golang.org/x/sync/errgroup"
	"gonum.org/v1/gonum/stat"

	"rotanex.example/core/desks"
	"rotanex.example/core/disruptions"
	"rotanex.example/core/leadtimes"
	"rotanex.example/core/planning"
)

// Uncertainty is what is not known for sure of a plan. What is not in a map is taken by
// cautious defaults, which each names.
type Uncertainty struct {
	// Ratios are, of each shot, single frames' times as parts of the typical time:
	// they are drawn from as they are, so that a few heavy frames stay a few heavy
	// frames. A shot without any takes DefaultRatios.
	Ratios map[string][]float64
	// Typical is how far the typical time itself may be off, of each timing by
	// TimingKey: the standard deviation of its logarithm. 0 is sure.
	Typical map[string]float64
	// Common is by how much all times of a run may be off together: the standard deviation of
	// the logarithm of a factor that they share. What a run is slowed by is rarely a single
	// crew's own. 0 is none; where nothing is known, DefaultCommon is cautious.
	Common float64
	// Starts are, of each timing by TimingKey, how its frames share opening their scene: the first
	// frame of a start takes all of it, the others none. One not named shares nothing. Farms are
	// not looked at: their nodes open scenes as they like.
	Starts map[string]Start
	// Fails is the chance that a try of a frame fails, of each host, offer or farm.
	// One not named takes DefaultFails.
	Fails map[string]float64
	// Waits are how the leads of offers and farms are kept, Typical being over the lead
	// in the problem. One not named is taken to be late, never early, by leadtimes.Boot or
	// leadtimes.Queue.
	Waits map[string]leadtimes.Kept
	// Desks are how owned hosts are taken back by whoever works at them. One not named is
	// nobody's desk.
	Desks map[string]desks.Habits
	// Disruptions are how often owned hosts are slowed or lost, desks aside, and shots grow
	// heavier of which too few frames were timed for Ratios. The zero value: nothing happens.
	Disruptions disruptions.Rates
	// Held is what farms have in hand, which is no part of the problem.
	Held []Held
	// Endings are how runs end that are planned anew by themselves. Nil: Forecast.Kept is not told.
	Endings *Endings
	// Rendered is the part of each shot that is done already, by its name. One not named is
	// begun.
	Rendered map[string]float64
}

// Held are frames of a shot that a farm has in hand: when the last of them is expected to be
// done, and due.
type Held struct {
	Shot           string
	Ends, Deadline planning.Millis
}

// What is assumed where nothing is known.
const (
	heldOff       = 0.1  // standard deviation of the logarithm of the time that is left for what is held
	DefaultFails  = 0.01 // of a try, to fail
	DefaultCommon = 0.04 // for Common
	failsAfter    = 0.5  // a failed try ends after this part of its frame's time, on average
)

// DefaultRatios are the times of single frames of a shot of which too few were
// timed: quantiles of a lognormal of 8 % spread, with one frame in twenty half as
// heavy again.
var DefaultRatios = []float64{
	0.87, 0.90, 0.92, 0.94, 0.95, 0.96, 0.97, 0.98, 0.99, 1.00, 1.00, 1.01, 1.02, 1.03, 1.04, 1.05, 1.07, 1.10, 1.14, 1.50,
}

// TimingKey names a timing row in Uncertainty.Typical.
func TimingKey(t planning.Timing) string {
	kind, id := t.Place()
	return t.Shot + " " + kind + " " + id + "/" + t.Crew
}

// Options of Simulate.
type Options struct {
	Simulations int    // 0: Enough
	Seed        uint64 // the same seed, the same forecast
	// Clear is after how many it is enough where every one, or none, was in time; 0: never.
	Clear int
	// Against is a chance: it is enough, too, where after some times Clear the chance is
	// clearly above or below it. 0: none.
	Against float64
	// MayLet is what may be spent on servers that are let on the way, where a run falls behind;
	// in the problem's currency. 0: what is planned is all that there is.
	MayLet float64
	// Progress is told how many simulations of all are done; nil: nobody is. It may be
	// called from several goroutines at once.
	Progress func(done, all int)
}

// Enough is how many simulations a forecast has unless it is told: within three points a
// chance is right then, nineteen times in twenty.
const Enough = 1000

// Spread is the first decile, the middle and the ninth decile of what the simulations gave.
type Spread struct {
	P10 float64 `json:"p10"`
	P50 float64 `json:"p50"`
	P90 float64 `json:"p90"`
}

// steps are how many even parts of the simulations Forecast.Finishes has.
const steps = 41

// Shot is how a shot fared.
type Shot struct {
	ID     string  `json:"id"`
	Chance float64 `json:"chance"` // to be home by its deadline
	Finish Spread  `json:"finish_s"`
	// Of crews' time, in the mean of all simulations: what goes into its frames, those that
	// fail among them, and what of that is opening scenes.
	RenderingS float64 `json:"rendering_s"`
	OpeningS   float64 `json:"opening_s"`
}

// Forecast is what many simulations of a plan gave. Times are seconds from the problem's
// start, costs are in its currency; a simulation that never finished counts as never.
type Forecast struct {
	Simulations int     `json:"simulations"`
	Chance      float64 `json:"chance"` // that every shot is home by its deadline
	Never       int     `json:"never"`  // simulations that left frames over: failed too often, or with nobody left
	// Behind is the part of the simulations in which servers are let as soon as it is looked: what
	// is planned is late then, as things stand. 0 without Options.MayLet.
	Behind   float64   `json:"behind"`
	Finish   Spread    `json:"finish_s"`
	Cost     Spread    `json:"cost"`
	MeanCost float64   `json:"mean_cost"` // the expected cost, with what is let on the way
	Shots    []Shot    `json:"shots"`
	Finishes []float64 `json:"finishes_s"` // of 41 even steps of the simulations, from the earliest: for a curve
	// Kept is when it ends if it is planned anew by itself on the way, by Uncertainty.Endings; nil without them.
	Kept *Kept `json:"kept,omitempty"`
}

// ErrNothing is that nobody would render anything by a plan: there is nothing to simulate.
var ErrNothing = errors.New("the plan books nothing: there is nothing to simulate")

// Simulate simulates the plan. Deadlines are those of the problem, unless others are
// given: a plan made with slack is asked whether it keeps the real ones. What a plan leaves
// unbooked is rendered by owned crews that it leaves free, as in a run; where there are none
// either, it returns ErrNothing.
func Simulate(ctx context.Context, p planning.Problem, plan planning.Plan, u Uncertainty, deadlines map[string]planning.Millis, o Options) (Forecast, error) {
	if plan.Status == planning.Impossible {
		return Forecast{}, ErrNothing
	}
	if o.Simulations == 0 {
		o.Simulations = Enough
	}
	s, err := newSetup(p, plan, u, deadlines, o.MayLet)
	if err != nil {
		return Forecast{}, err
	}
	if len(s.crews) == 0 {
		return Forecast{}, ErrNothing
	}
	var ends []ending
	for len(ends) < o.Simulations {
		until := o.Simulations
		if o.Clear > 0 && (o.Against > 0 || len(ends) == 0) {
			until = min(until, len(ends)+o.Clear)
		}
		more, err := s.simulate(ctx, len(ends), until, o)
		if err != nil {
			return Forecast{}, err
		}
		if ends = append(ends, more...); s.clear(ends, o.Against) {
			break
		}
	}
	out := s.sum(ends)
	if u.Endings != nil {
		due := map[string]float64{}
		for _, x := range s.shots {
			due[x.id] = x.deadline / 1000
		}
		out.Kept = new(out.KeptBy(u.Endings, due))
	}
	return out, nil
}

// simulate makes the simulations from one number to another.
func (s *setup) simulate(ctx context.Context, from, until int, o Options) ([]ending, error) {
	ends := make([]ending, until-from)
	group, ctx := errgroup.WithContext(ctx)
	workers := runtime.GOMAXPROCS(0)
	var done atomic.Int64
	for w := range workers {
		group.Go(func() error {
			one := newSimulation(s)
			for i := w; i < len(ends); i += workers {
				if err := ctx.Err(); err != nil {
					return err
				}
				ends[i] = one.run(rand.New(rand.NewPCG(o.Seed, uint64(from+i))))
				if n := int(done.Add(1)); o.Progress != nil {
					o.Progress(from+n, o.Simulations)
				}
			}
			return nil
		})
	}
	return ends, group.Wait()
}

// clear reports whether all simulations were in time, or none, or their chance is three
// standard errors from another; 0: there is none.
func (s *setup) clear(ends []ending, against float64) bool {
	met := 0
	for _, e := range ends {
		if s.inTime(e) {
			met++
		}
	}
	n, chance := float64(len(ends)), float64(met)/float64(len(ends))
	return met == 0 || met == len(ends) || against > 0 && math.Abs(chance-against) > 3*math.Sqrt(against*(1-against)/n)
}

// inTime reports whether every shot came home by its deadline.
func (s *setup) inTime(e ending) bool {
	for i, t := range e.shots {
		if t > s.shots[i].deadline {
			return false
		}
	}
	return !e.heldLate
}

// sum counts over simulations. Times in endings are ms.
func (s *setup) sum(ends []ending) Forecast {
	out := Forecast{Simulations: len(ends)}
	var finishes, costs []float64
	met := make([]int, len(s.shots))
	each, works := make([][]float64, len(s.shots)), make([]work, len(s.shots))
	all, behind := 0, 0
	for _, e := range ends {
		last := e.held
		if e.behind {
			behind++
		}
		for i, t := range e.shots {
			last = max(last, t)
			each[i] = append(each[i], t/1000)
			if t <= s.shots[i].deadline {
				met[i]++
			}
		}
		if s.inTime(e) {
			all++
		}
		if math.IsInf(last, 1) {
			out.Never++
		}
		finishes, costs = append(finishes, last/1000), append(costs, e.cost)
		for i, w := range e.work {
			works[i].rendering, works[i].opening = works[i].rendering+w.rendering/1000, works[i].opening+w.opening/1000
		}
	}
	out.Chance, out.Behind = float64(all)/float64(len(ends)), float64(behind)/float64(len(ends))
	out.Finish, out.Cost = spread(finishes), spread(costs)
	out.MeanCost = stat.Mean(costs, nil)
	for i, x := range s.shots {
		out.Shots = append(out.Shots, Shot{
			ID: x.id, Chance: float64(met[i]) / float64(len(ends)), Finish: spread(each[i]),
			RenderingS: works[i].rendering / float64(len(ends)), OpeningS: works[i].opening / float64(len(ends)),
		})
	}
	for k := range steps {
		out.Finishes = append(out.Finishes, finite(stat.Quantile(float64(k)/(steps-1), stat.Empirical, finishes, nil)))
	}
	return out
}

func spread(list []float64) Spread {
	slices.Sort(list)
	at := func(q float64) float64 { return finite(stat.Quantile(q, stat.Empirical, list, nil)) }
	return Spread{at(0.1), at(0.5), at(0.9)}
}

// finite keeps numbers that JSON can carry: never is -1.
func finite(v float64) float64 {
	if math.IsInf(v, 1) {
		return -1
	}
	return v
}
