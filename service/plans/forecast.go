package plans

import (
	"context"
	"encoding/json"
	"fmt"
	"math"
	"strings"

	"rotanex.example/core/forecast"
	"rotanex.example/core/leadtimes"
	"rotanex.example/core/planning"
	"rotanex.example/core/planning/questions"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/problems"
)

// simulate answers the question of how sure a plan is.
func (p *Plans) simulate(ctx context.Context, question []byte, say questions.Progress) (any, error) {
	var q ofPlan
	if err := json.Unmarshal(question, &q); err != nil {
		return nil, err
	}
	record, err := p.find(ctx, q.Plan)
	if err != nil {
		return nil, err
	}
	return p.forecastOf(ctx, record, forecast.Options{Simulations: q.Simulations, Seed: q.Seed}, say)
}

// forecastOf simulates the plan of a record with what is not known for sure now.
func (p *Plans) forecastOf(ctx context.Context, record Plan, options forecast.Options, say questions.Progress) (answerOfForecast, error) {
	problem, plan, err := record.open()
	if err != nil {
		return answerOfForecast{}, err
	}
	if len(plan.Bookings) == 0 {
		return answerOfForecast{}, httpapi.Conflict("the plan books nothing: there is nothing to forecast")
	}
	uncertainty, restsOn, err := p.Doubts(ctx, problem, record.Notes)
	if err != nil {
		return answerOfForecast{}, err
	}
	options.Progress = func(done, all int) { say(done, all, "simulating the plan") }
	f, err := forecast.Simulate(ctx, problem, plan, uncertainty, record.Notes.Deadlines, options)
	return answerOfForecast{Forecast: f, Seed: options.Seed, RestsOn: restsOn}, err
}

// fewest is how many timed frames of a shot, or tries on a host, it takes to go by
// them rather than by what is assumed.
const fewest = 8

// Doubts gathers what is not known for sure: how single frames of each shot differ,
// how well each time is known, and how often tries failed on each place.
func (p *Plans) Doubts(ctx context.Context, problem planning.Problem, n problems.Notes) (forecast.Uncertainty, []string, error) {
	d := forecast.Uncertainty{Ratios: map[string][]float64{}, Typical: map[string]float64{}, Fails: map[string]float64{}, Waits: map[string]leadtimes.Kept{}, Common: forecast.DefaultCommon, Desks: n.Desks}
	var restsOn, few []string
	restsOn = append(n.AboutDesks(), fmt.Sprintf("all crews together: assumed slower or faster than expected by %.0f %%, as a standard deviation", 100*d.Common))
	known, err := p.Timings.Know(ctx)
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
		if e := n.Basis[problems.BasisKey(t.Shot, place, t.Crew)]; e.Low > 0 && e.High > e.Low {
			d.Typical[forecast.TimingKey(t)] = math.Log(e.High/e.Low) / (2 * 1.645) // the interval holds nine in ten
		}
	}
	tries, err := p.triesByPlace(ctx)
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
	waits, err := p.Sources.Waits(ctx)
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
		return []string{fmt.Sprintf("boots and queues: none was seen yet; assumed later than declared by %.0f %% and %.0f %%, as a standard deviation", 100*leadtimes.Boot, 100*leadtimes.Queue)}, nil
	}
	said := fmt.Sprintf("boots and queues: as in %d seen so far", seen)
	if never > 0 {
		said += fmt.Sprintf("; %d servers never came", never)
	}
	return []string{said}, nil
}
