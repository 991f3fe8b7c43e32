// Package uncertainty gathers what is not known for sure of a problem, for core/forecast: from
// times, tries, waits and earlier runs.
package uncertainty

import (
	"context"
	"fmt"
	"strings"
	"time"

	"rotanex.example/core/dispatch"
	"rotanex.example/core/disruptions"
	"rotanex.example/core/forecast"
	"rotanex.example/core/leadtimes"
	"rotanex.example/core/planning"
	"rotanex.example/service/accounts"
	"rotanex.example/service/clock"
	"rotanex.example/service/endings"
	"rotanex.example/service/problems"
	"rotanex.example/service/sources"
	"rotanex.example/service/store"
	"rotanex.example/service/timings"
)

// Uncertainty gathers them.
type Uncertainty struct {
	store   *store.Store
	clock   clock.Clock
	timings *timings.Timings
	sources *sources.Sources
	endings *endings.Endings
}

// New makes it.
func New(s *store.Store, c clock.Clock, t *timings.Timings, from *sources.Sources, e *endings.Endings) *Uncertainty {
	return &Uncertainty{s, c, t, from, e}
}

// fewest is how many timed frames of a shot, or tries on a host, it takes to go by
// them rather than by what is assumed.
const fewest = 8

// Disruptions says how runs are to be expected to be upset, after those of the last weeks.
func (d *Uncertainty) Disruptions(ctx context.Context) (disruptions.Rates, error) {
	tries, err := d.triesSince(ctx, d.clock.Now().Add(-remembered))
	return disruptions.Learn(disruptions.See(tries)), err
}

// Of gathers what is not known for sure: how single frames of each shot differ,
// how well each time is known, how often tries failed on each place, how runs were upset. It
// says in words what that rests on.
func (d *Uncertainty) Of(ctx context.Context, problem planning.Problem, n problems.Notes) (forecast.Uncertainty, []string, error) {
	u := forecast.Uncertainty{Ratios: map[string][]float64{}, Typical: map[string]float64{}, Fails: map[string]float64{}, Waits: map[string]leadtimes.Kept{}, Starts: map[string]forecast.Start{}, Common: forecast.DefaultCommon, Desks: n.Desks, Held: n.Held}
	var restsOn, few []string
	restsOn = append(n.AboutDesks(), fmt.Sprintf("all crews together: assumed slower or faster than expected by %.0f %%, as a standard deviation", 100*u.Common))
	u.Disruptions = n.Disruptions
	if u.Disruptions == (disruptions.Rates{}) {
		learnt, err := d.Disruptions(ctx)
		if err != nil {
			return u, restsOn, err
		}
		u.Disruptions = learnt
	}
	if n.Ask != nil && n.Ask.Priority == dispatch.Urgent.String() {
		u.Disruptions.UrgentEvery = 0 // nothing is more urgent
	}
	restsOn = append(restsOn, about(u.Disruptions))
	if n.Ask != nil && !n.Ask.Backlog() {
		waiting, said := 0, ""
		for _, x := range problem.Shots {
			waiting += x.Frames
		}
		var err error
		if u.Endings, said, err = d.endings.Of(ctx, n.Ask.Run, waiting); err != nil {
			return u, restsOn, err
		}
		restsOn = append(restsOn, said)
	}
	known, err := d.timings.Know(ctx)
	if err != nil || known == nil {
		return u, restsOn, err
	}
	for _, shot := range problem.Shots {
		ratios := known.Ratios(shot.ID)
		if len(ratios) >= fewest {
			u.Ratios[shot.ID] = ratios
			restsOn = append(restsOn, fmt.Sprintf("%s: how %d timed frames of it differed", shot.ID, len(ratios)))
		} else {
			few = append(few, shot.ID)
		}
	}
	if len(few) > 0 {
		names := strings.Join(few, ", ")
		if len(few) > 4 {
			names = fmt.Sprintf("%d shots", len(few))
		}
		restsOn = append(restsOn, names+": too few timed frames to see how they differ; assumed 8 % spread and one in twenty half as heavy again")
	}
	for _, t := range problem.Timings {
		_, place := t.Place()
		e := n.Basis[accounts.BasisKey(t.Shot, place, t.Crew)]
		if off := e.Off(); off > 0 {
			u.Typical[forecast.TimingKey(t)] = off
		}
		if e.Opening > 0 && e.InStart > 0 {
			u.Starts[forecast.TimingKey(t)] = forecast.Start{Opening: planning.Millis(e.Opening * 1000), Frames: e.InStart}
		}
	}
	places, err := d.triesByPlace(ctx)
	counted := 0
	for _, x := range places {
		if x.Tries >= fewest {
			// As if one more try in a hundred had failed: none in ten is not never.
			u.Fails[x.Place] = (float64(x.Fail) + forecast.DefaultFails*10) / float64(x.Tries+10)
			counted += x.Tries
		}
	}
	if counted > 0 {
		restsOn = append(restsOn, fmt.Sprintf("failures: as often as in %d tries so far; %.0f %% where there were fewer than %d", counted, 100*forecast.DefaultFails, fewest))
	} else {
		restsOn = append(restsOn, fmt.Sprintf("failures: assumed %.0f %% of tries", 100*forecast.DefaultFails))
	}
	if err != nil {
		return u, restsOn, err
	}
	waiting, err := d.waits(ctx, problem, &u)
	return u, append(restsOn, waiting...), err
}

// remembered is for how long what upset runs is reckoned with.
const remembered = 60 * 24 * time.Hour

// about says how often runs are expected to be upset.
func about(r disruptions.Rates) string {
	seen := "assumed, as nothing was seen yet"
	switch {
	case r.Cases == 1:
		seen = fmt.Sprintf("one case seen in %.0f days", remembered.Hours()/24)
	case r.Cases > 1:
		seen = fmt.Sprintf("%d cases seen in %.0f days", r.Cases, remembered.Hours()/24)
	}
	urgent := ""
	if r.UrgentEvery > 0 {
		urgent = fmt.Sprintf("a more urgent run every %.0f h for %.1f h; ", r.UrgentEvery.Hours(), r.UrgentFor.Hours())
	}
	return fmt.Sprintf("own hosts: slowed every %.0f h for %.1f h, %.1f times as slow, and lost every %.0f h; %sone shot of %.0f grows heavier, of those of which few frames were timed (%s)",
		r.SlowedEvery.Hours(), r.SlowedFor.Hours(), r.SlowedTimes, r.LostEvery.Hours(), urgent, 1/r.Heavier, seen)
}

// waits gathers how offers' boots and farms' queues were kept so far, over the
// leads that the plan was made with.
func (d *Uncertainty) waits(ctx context.Context, problem planning.Problem, u *forecast.Uncertainty) (restsOn []string, err error) {
	waits, err := d.sources.Waits(ctx)
	if err != nil {
		return nil, err
	}
	seen, never := 0, 0
	add := func(place string, lead planning.Millis) {
		w, known := waits[place]
		if !known || w.Seen == 0 && w.Never == 0 || lead <= 0 {
			return
		}
		kept := w.Kept
		kept.Typical *= float64(w.Declared) / float64(lead.Duration())
		u.Waits[place] = kept
		seen, never = seen+w.Seen, never+w.Never
	}
	for _, o := range problem.Offers {
		add(o.ID, o.Lead)
	}
	for _, f := range problem.Farms {
		add(f.ID, f.Lead)
	}
	if len(problem.Offers)+len(problem.Farms) == 0 {
		return nil, nil
	}
	if seen == 0 {
		return []string{fmt.Sprintf("boots and queues: none was seen yet; assumed later than declared by %.0f %% and %.0f %%, as a standard deviation", 100*leadtimes.Boot, 100*leadtimes.Queue)}, nil
	}
	said := fmt.Sprintf("boots and queues: as in %d seen so far", seen)
	if never > 0 {
		said += fmt.Sprintf("; %d servers never came", never)
	}
	return []string{said}, nil
}
