package rehearsal

import (
	"context"
	"fmt"
	"io"
	"runtime"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"rotanex.example/core/forecast"
	"rotanex.example/core/replan"
)

// Confidence is how surely in time the weekends are asked to be.
const Confidence = 0.95

// Weekends is one weekend, played with each policy.
type Weekends struct {
	Weekend Weekend
	Knowing Knowing
	Plan    Plan
	Played  map[replan.Policy]Played
}

// Policies are those that are compared.
var Policies = []replan.Policy{replan.Off, replan.Auto}

// Rehearse draws so many weekends and plays each. Said is told of each that is done.
func Rehearse(ctx context.Context, first uint64, number int, said func(Weekends)) ([]Weekends, error) {
	out := make([]Weekends, number)
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(runtime.GOMAXPROCS(0))
	var one sync.Mutex
	for i := range out {
		group.Go(func() (err error) {
			w := Draw(first + uint64(i))
			w.Remembers()
			x := Weekends{Weekend: w, Played: map[replan.Policy]Played{}}
			if x.Knowing, err = w.Knowing(ctx); err != nil {
				return fmt.Errorf("weekend %d, knowing: %w", w.Seed, err)
			}
			if x.Plan, err = w.Plan(ctx, Confidence); err != nil {
				return fmt.Errorf("weekend %d, plan: %w", w.Seed, err)
			}
			for _, policy := range Policies {
				if x.Played[policy], err = w.Play(ctx, x.Plan, policy, Confidence); err != nil {
					return fmt.Errorf("weekend %d, %s: %w", w.Seed, policy, err)
				}
			}
			one.Lock()
			defer one.Unlock()
			out[i] = x
			said(x)
			return nil
		})
	}
	return out, group.Wait()
}

// Share is a part of a whole.
type Share struct{ Of, All int }

func (s *Share) add(yes bool) {
	s.All++
	if yes {
		s.Of++
	}
}

// String prints it with what it is a part of.
func (s Share) String() string {
	if s.All == 0 {
		return "–"
	}
	return fmt.Sprintf("%.1f %% of %d", 100*float64(s.Of)/float64(s.All), s.All)
}

// quantiles of a forecast's finish that are held against what happened, and their places in
// Forecast.Finishes.
var quantiles = []struct {
	Percent, At int
}{{50, 20}, {80, 32}, {95, 38}}

// Summary is what a policy came to over all weekends.
type Summary struct {
	Met      Share   // deadlines, of those that the all-knowing plan meets and the plan promised surely enough
	Possible Share   // the same, of all that the all-knowing plan meets
	Urgent   Share   // of the urgent shots
	Cost     float64 // over the all-knowing plan's, in the mean of weekends of which both meet all
	Compared int
	Before   []Share // by quantile: the run ended by then, as was forecast before the start
	HalfWay  []Share // the same, as was forecast half-way
	Moved    Share   // of all frames
	Changes  int
}

// Summarize sums up what a policy came to. Weekends that no plan could render are left out. When runs end
// that are planned anew is said of each weekend by what was seen of those before it, as a studio would see it.
func Summarize(all []Weekends, policy replan.Policy) (out Summary) {
	out.Before, out.HalfWay = make([]Share, len(quantiles)), make([]Share, len(quantiles))
	ratios := 0.0
	var seen []forecast.Ending
	for _, x := range all {
		if x.Plan.Forecast.Simulations == 0 {
			continue
		}
		played, both := x.Played[policy], true
		for shot, met := range played.Met {
			both = both && met && x.Knowing.Met[shot]
			switch {
			case !x.Knowing.Met[shot]:
			case shot == "urgent":
				out.Urgent.add(met)
			default:
				out.Possible.add(met)
				if x.Plan.Forecast.Chance >= Confidence {
					out.Met.add(met)
				}
			}
		}
		if both && x.Knowing.Cost > 0 {
			ratios += played.Cost / x.Knowing.Cost
			out.Compared++
		}
		happened(out.Before, said(policy, x.Plan.Forecast, x.Weekend, seen, false, 0), 0, played.Finish)
		happened(out.HalfWay, said(policy, played.HalfWay, x.Weekend, seen, true, played.HalfDone), played.HalfDone, played.Finish)
		seen = append(seen, ended(x.Plan.Forecast, x.Weekend, played, false, 0)...)
		seen = append(seen, ended(played.HalfWay, x.Weekend, played, true, played.HalfDone)...)
		out.Changes += played.Changes
		out.Moved.Of += played.Moved
		out.Moved.All += played.Frames
	}
	out.Cost = ratios / float64(max(1, out.Compared))
	return out
}

// due are the deadlines of a weekend's shots in seconds from a time after its start.
func due(w Weekend, from time.Duration) map[string]float64 {
	out := map[string]float64{}
	for _, s := range w.Problem.Shots {
		out[s.ID] = (s.Deadline.Duration() - from).Seconds()
	}
	return out
}

// said is by when what part of the runs ends, as is told of a forecast: of the schedule as it is, or of one that is
// planned anew by itself. Nil: nothing was forecast.
func said(policy replan.Policy, f forecast.Forecast, w Weekend, seen []forecast.Ending, later bool, made time.Duration) []float64 {
	if policy == replan.Off || f.Simulations == 0 {
		return f.Finishes
	}
	return f.KeptBy(forecast.LearnEndings(seen, later), due(w, made)).Finishes
}

// ended are the shots of a weekend that was played, beside what was forecast of them.
func ended(f forecast.Forecast, w Weekend, p Played, later bool, made time.Duration) []forecast.Ending {
	if f.Simulations == 0 {
		return nil
	}
	out := f.Told(later, due(w, made))
	for i, e := range out {
		at, of := p.Ends[e.Shot]
		if !of {
			at = p.Finish
		}
		out[i].Ended = (at - made).Seconds()
	}
	return out
}

// happened holds what was said at a time against the finish.
func happened(shares []Share, said []float64, made, finish time.Duration) {
	if said == nil {
		return
	}
	for i, q := range quantiles {
		by := said[q.At]
		shares[i].add(by >= 0 && (finish-made).Seconds() <= by)
	}
}

// Print prints a table in Markdown.
func Print(w io.Writer, all []Weekends) {
	sums := make([]Summary, len(Policies))
	for i, p := range Policies {
		sums[i] = Summarize(all, p)
	}
	line := func(what string, of func(s Summary) string) {
		_, _ = fmt.Fprintf(w, "| %s |", what)
		for _, s := range sums {
			_, _ = fmt.Fprintf(w, " %s |", of(s))
		}
		_, _ = fmt.Fprintln(w)
	}
	_, _ = fmt.Fprintf(w, "| %d weekends | off | auto |\n|---|---:|---:|\n", len(all))
	line("deadlines met, of those that the all-knowing plan meets and that were promised at 95 %", func(s Summary) string { return s.Met.String() })
	line("of all that the all-knowing plan meets", func(s Summary) string { return s.Possible.String() })
	line("of urgent shots", func(s Summary) string { return s.Urgent.String() })
	line("cost over the all-knowing plan's, in the mean where both meet all", func(s Summary) string { return fmt.Sprintf("%.2f of %d", s.Cost, s.Compared) })
	for i, q := range quantiles {
		line(fmt.Sprintf("ended by what was forecast for %d %%, before the start", q.Percent), func(s Summary) string { return s.Before[i].String() })
		line(fmt.Sprintf("ended by what was forecast for %d %%, half-way", q.Percent), func(s Summary) string { return s.HalfWay[i].String() })
	}
	line("frames moved by changes", func(s Summary) string { return s.Moved.String() })
	line("changes", func(s Summary) string { return fmt.Sprint(s.Changes) })
}
