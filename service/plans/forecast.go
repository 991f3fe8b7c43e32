package plans

import (
	"context"
	"fmt"
	"math"
	"net/http"
	"strings"
	"time"

	"github.com/google/uuid"

	"rotanex.example/api"
	"rotanex.example/core/forecast"
	"rotanex.example/core/leadtimes"
	"rotanex.example/core/planning"
	"rotanex.example/core/pricing"
	"rotanex.example/service/httpapi"
)

// Forecast simulations a plan many times.
func (p *Plans) Forecast(w http.ResponseWriter, r *http.Request, id uuid.UUID, params api.ForecastPlanParams) {
	record, err := p.find(r.Context(), id)
	var out api.PlanForecast
	if err == nil {
		options := forecast.Options{Simulations: 1000, Seed: 1}
		if params.Simulations != nil {
			options.Simulations = *params.Simulations
		}
		if params.Seed != nil {
			options.Seed = uint64(*params.Seed)
		}
		out, err = p.forecast(r.Context(), record, options)
	}
	httpapi.Answer(w, r, http.StatusOK, out, err)
}

func (p *Plans) forecast(ctx context.Context, record Plan, options forecast.Options) (api.PlanForecast, error) {
	out := api.PlanForecast{Currency: record.Currency, Simulations: options.Simulations, Seed: int64(options.Seed), RestsOn: []string{}}
	problem, plan, err := record.open()
	if err != nil {
		return out, err
	}
	if len(plan.Bookings) == 0 {
		return out, httpapi.Conflict("the plan books nothing: there is nothing to forecast")
	}
	uncertainty, restsOn, err := p.uncertainty(ctx, problem, record.Notes)
	if err != nil {
		return out, err
	}
	f, err := forecast.Simulate(ctx, problem, plan, uncertainty, record.Notes.Deadlines, options)
	if err != nil {
		return out, err
	}
	at := func(s float64) time.Time {
		if s < 0 {
			return time.Time{}
		}
		return problem.Start.Add(time.Duration(s * float64(time.Second))).Truncate(time.Second)
	}
	times := func(s forecast.Spread) api.TimeSpread {
		return api.TimeSpread{P10: at(s.P10), P50: at(s.P50), P90: at(s.P90)}
	}
	amount := func(v float64) string { return pricing.MustMoney(fmt.Sprintf("%.6f", v)).String() }
	out.Chance, out.Never, out.Finish, out.RestsOn = f.Chance, f.Never, times(f.Finish), restsOn
	out.Cost.P10, out.Cost.P50, out.Cost.P90 = amount(f.Cost.P10), amount(f.Cost.P50), amount(f.Cost.P90)
	for i, s := range f.Shots {
		deadline := problem.Shots[i].Deadline
		if real, ok := record.Notes.Deadlines[s.ID]; ok {
			deadline = real
		}
		row := api.ShotForecast{Shot: s.ID, Chance: s.Chance, Deadline: problem.Start.Add(deadline.Duration()), Finish: times(s.Finish)}
		out.Shots = append(out.Shots, row)
	}
	out.Curve = []time.Time{}
	for _, s := range f.Finishes {
		if s >= 0 {
			out.Curve = append(out.Curve, at(s))
		}
	}
	return out, nil
}

// fewest is how many timed frames of a shot, or tries on a host, it takes to go by
// them rather than by what is assumed.
const fewest = 8

// uncertainty gathers what is not known for sure: how single frames of each shot differ,
// how well each time is known, and how often tries failed on each place.
func (p *Plans) uncertainty(ctx context.Context, problem planning.Problem, n notes) (forecast.Uncertainty, []string, error) {
	d := forecast.Uncertainty{Ratios: map[string][]float64{}, Typical: map[string]float64{}, Fails: map[string]float64{}, Waits: map[string]leadtimes.Kept{}}
	var restsOn, few []string
	known, err := p.timings.Know(ctx)
	if err != nil || known == nil {
		return d, restsOn, err
	}
	for _, shot := range problem.Shots {
		ratios := known.Ratios(shot.ID)
		if len(ratios) >= fewest {
			d.Ratios[shot.ID] = ratios
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
		if e := n.Basis[basisKey(t.Shot, place, t.Crew)]; e.Low > 0 && e.High > e.Low {
			d.Typical[forecast.TimingKey(t)] = math.Log(e.High/e.Low) / (2 * 1.645) // the interval holds nine in ten
		}
	}
	var tries []struct {
		Place       string
		Tries, Fail int
	}
	err = p.store.WithContext(ctx).Raw(`SELECT coalesce(s.offer, a.host) AS place, count(*) AS tries, count(*) FILTER (WHERE a.outcome <> 'done') AS fail
		FROM tries a LEFT JOIN servers s ON s.host = a.host WHERE a.outcome <> 'revoked' GROUP BY 1`).Scan(&tries).Error
	counted := 0
	for _, x := range tries {
		if x.Tries >= fewest {
			// As if one more try in a hundred had failed: none in ten is not never.
			d.Fails[x.Place] = (float64(x.Fail) + forecast.DefaultFails*10) / float64(x.Tries+10)
			counted += x.Tries
		}
	}
	if counted > 0 {
		restsOn = append(restsOn, fmt.Sprintf("failures: as often as in %d tries so far; %.0f %% where there were fewer than %d", counted, 100*forecast.DefaultFails, fewest))
	} else {
		restsOn = append(restsOn, fmt.Sprintf("failures: assumed %.0f %% of tries", 100*forecast.DefaultFails))
	}
	if err != nil {
		return d, restsOn, err
	}
	waiting, err := p.doubtWaits(ctx, problem, &d)
	return d, append(restsOn, waiting...), err
}

// doubtWaits gathers how offers' boots and farms' queues were kept so far, over the
// leads that the plan was made with.
func (p *Plans) doubtWaits(ctx context.Context, problem planning.Problem, d *forecast.Uncertainty) (restsOn []string, err error) {
	waits, err := p.sources.Waits(ctx)
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
		kept.Typical *= float64(w.Promised) / float64(lead.Duration())
		d.Waits[place] = kept
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
		return []string{fmt.Sprintf("boots and queues: none was seen yet; assumed later than promised by %.0f %% and %.0f %%, as a standard deviation", 100*leadtimes.Boot, 100*leadtimes.Queue)}, nil
	}
	said := fmt.Sprintf("boots and queues: as in %d seen so far", seen)
	if never > 0 {
		said += fmt.Sprintf("; %d servers never came", never)
	}
	return []string{said}, nil
}

// surely plans with as little slack as it takes for the forecast to meet every
// deadline with the chance asked for. Where none does, it returns the plan with the
// most chance.
func (p *Plans) surely(ctx context.Context, problem planning.Problem, n notes, sure float64, options planning.Options) (planning.Problem, planning.Plan, float64, error) {
	uncertainty, _, err := p.uncertainty(ctx, problem, n)
	if err != nil {
		return problem, planning.Plan{}, 0, err
	}
	best := struct {
		problem planning.Problem
		plan    planning.Plan
		slack   float64
		chance  float64
	}{chance: -1}
	try := func(slack float64) (bool, error) {
		tight := spare(problem, slack)
		plan, err := planning.Solve(ctx, tight, options)
		if err != nil || len(plan.Bookings) == 0 {
			return false, err
		}
		f, err := forecast.Simulate(ctx, tight, plan, uncertainty, n.Deadlines, forecast.Options{Simulations: 500, Seed: 1})
		if err != nil {
			return false, err
		}
		if f.Chance >= sure && best.chance < sure || f.Chance > best.chance && best.chance < sure || f.Chance >= sure && slack < best.slack {
			best.problem, best.plan, best.slack, best.chance = tight, plan, slack, f.Chance
		}
		return f.Chance >= sure, nil
	}
	low, high := 0.0, -1.0
	for _, slack := range []float64{0, 0.04, 0.08, 0.15, 0.25, 0.4} {
		met, err := try(slack)
		if err != nil {
			return problem, planning.Plan{}, 0, err
		}
		if met {
			high = slack
			break
		}
		low = slack
	}
	for high > 0 && high-low > 0.01 {
		middle := (low + high) / 2
		met, err := try(middle)
		if err != nil {
			return problem, planning.Plan{}, 0, err
		}
		if met {
			high = middle
		} else {
			low = middle
		}
	}
	return best.problem, best.plan, best.slack, nil
}
