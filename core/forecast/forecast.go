// Package forecast plays a plan many times, with frame times that vary, servers
// that boot late, farms that queue and frames that fail, by the rule by which a
// run hands frames out, and counts how often it is in time and what it costs.
//
//	f, err := forecast.Play(ctx, problem, plan, forecast.Doubts{}, forecast.Options{})
//	fmt.Println(f.Chance, f.Finish.P90)
//
// The same seed gives the same forecast, on any number of cores.
package forecast

import (
	"context"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"runtime"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"
	"gonum.org/v1/gonum/stat"

	"rotanex.example/core/planning"
	"rotanex.example/core/promise"
)

// Doubts is what is not known for sure of a plan. The zero value is replaced by
// cautious defaults, which Defaults names.
type Doubts struct {
	// Ratios are, of each shot, single frames' times as parts of the typical time:
	// they are drawn from as they are, so that a few heavy frames stay a few heavy
	// frames. A shot without any takes DefaultRatios.
	Ratios map[string][]float64
	// Typical is how far the typical time itself may be off, of each timing by
	// TimingKey: the standard deviation of its logarithm. 0 is sure.
	Typical map[string]float64
	// Fails is the chance that a try of a frame fails, of each host, offer or farm.
	// One not named takes DefaultFails.
	Fails map[string]float64
	// Waits are how the leads of offers and farms are kept, Typical being over the lead
	// in the problem. One not named is taken to be late, never early, by promise.Boot or
	// promise.Queue.
	Waits map[string]promise.Kept
}

// What is assumed where nothing is known.
const (
	DefaultFails = 0.01 // of a try, to fail
	failsAfter   = 0.5  // a failed try ends after this part of its frame's time, on average
)

// DefaultRatios are the times of single frames of a shot of which too few were
// timed: quantiles of a lognormal of 8 % spread, with one frame in twenty half as
// heavy again.
var DefaultRatios = []float64{
	0.87, 0.90, 0.92, 0.94, 0.95, 0.96, 0.97, 0.98, 0.99, 1.00, 1.00, 1.01, 1.02, 1.03, 1.04, 1.05, 1.07, 1.10, 1.14, 1.50,
}

// TimingKey names a timing row in Doubts.Typical.
func TimingKey(t planning.Timing) string {
	kind, id := t.Place()
	return t.Shot + " " + kind + " " + id + "/" + t.Crew
}

// Options of Play.
type Options struct {
	Plays int    // 0: 1000
	Seed  uint64 // the same seed, the same forecast
}

// Spread is the middle, the ninth decile and the first of what the plays gave.
type Spread struct {
	P10 float64 `json:"p10"`
	P50 float64 `json:"p50"`
	P90 float64 `json:"p90"`
}

// Shot is how a shot fared.
type Shot struct {
	ID     string  `json:"id"`
	Chance float64 `json:"chance"` // to be home by its deadline
	Finish Spread  `json:"finish_s"`
}

// Forecast is what many plays of a plan gave. Times are seconds from the problem's
// start, costs are in its currency; a play that never finished counts as never.
type Forecast struct {
	Plays    int       `json:"plays"`
	Chance   float64   `json:"chance"` // that every shot is home by its deadline
	Never    int       `json:"never"`  // plays that left frames over: all crews closed
	Finish   Spread    `json:"finish_s"`
	Cost     Spread    `json:"cost"`
	Shots    []Shot    `json:"shots"`
	Finishes []float64 `json:"finishes_s"` // of 41 even steps of the plays, from the earliest: for a curve
}

// Play plays the plan. Deadlines are those of the problem, unless others are given:
// a plan made with slack is asked whether it keeps the real ones.
func Play(ctx context.Context, p planning.Problem, plan planning.Plan, d Doubts, deadlines map[string]planning.Millis, o Options) (Forecast, error) {
	if plan.Status == planning.Impossible || len(plan.Bookings) == 0 {
		return Forecast{}, errors.New("the plan books nothing: there is nothing to play")
	}
	if o.Plays == 0 {
		o.Plays = 1000
	}
	stage, err := newStage(p, plan, d, deadlines)
	if err != nil {
		return Forecast{}, err
	}
	ends := make([]ending, o.Plays)
	group, ctx := errgroup.WithContext(ctx)
	workers := runtime.GOMAXPROCS(0)
	for w := range workers {
		group.Go(func() error {
			play := newPlay(stage)
			for i := w; i < o.Plays; i += workers {
				if err := ctx.Err(); err != nil {
					return err
				}
				ends[i] = play.run(rand.New(rand.NewPCG(o.Seed, uint64(i))))
			}
			return nil
		})
	}
	if err := group.Wait(); err != nil {
		return Forecast{}, err
	}
	return stage.sum(ends), nil
}

// ending is how one play ended. Times are ms, math.Inf(1) for never.
type ending struct {
	shots []float64
	cost  float64
}

func (s *stage) sum(ends []ending) Forecast {
	out := Forecast{Plays: len(ends)}
	var finishes, costs []float64
	met := make([]int, len(s.shots))
	each := make([][]float64, len(s.shots))
	all := 0
	for _, e := range ends {
		last, inTime := 0.0, true
		for i, t := range e.shots {
			last = max(last, t)
			each[i] = append(each[i], t/1000)
			if t <= s.shots[i].deadline {
				met[i]++
			} else {
				inTime = false
			}
		}
		if inTime {
			all++
		}
		if math.IsInf(last, 1) {
			out.Never++
		}
		finishes, costs = append(finishes, last/1000), append(costs, e.cost)
	}
	out.Chance = float64(all) / float64(len(ends))
	out.Finish, out.Cost = spread(finishes), spread(costs)
	for i, x := range s.shots {
		out.Shots = append(out.Shots, Shot{x.id, float64(met[i]) / float64(len(ends)), spread(each[i])})
	}
	for k := range 41 {
		out.Finishes = append(out.Finishes, finite(stat.Quantile(float64(k)/40, stat.Empirical, finishes, nil)))
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

// duration turns milliseconds of the play into a time that dispatch reckons with.
func moment(ms float64) time.Time { return time.UnixMilli(int64(math.Min(ms, 1e14))).UTC() }

func missing(what, id string) error {
	return fmt.Errorf("the plan books %s %q, which its problem does not have", what, id)
}
