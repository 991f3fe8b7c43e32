package plans

import (
	"context"
	"math/big"
	"net/http"
	"slices"
	"strings"
	"time"

	"rotanex.example/api"
	"rotanex.example/core/ledger"
	"rotanex.example/core/planning"
	"rotanex.example/core/pricing"
	"rotanex.example/core/timing"
	"rotanex.example/service/httpapi"
)

// BestMix names the row of all sources together.
const BestMix = "best mix"

// noDeadline is within what a shot is compared that has no deadline of its own.
const noDeadline = 3 * 24 * time.Hour

// weighed is how much of the planner's work goes into each source of a comparison.
const weighed = 0.3

// CompareSources answers what the same work takes on each source alone, and on the
// best mix of all.
func (p *Plans) CompareSources(w http.ResponseWriter, r *http.Request, shot string, params api.CompareSourcesParams) {
	ask := api.NewPlan{Shots: []string{shot}}
	if params.By != nil {
		ask.By = *params.By
	} else if s, err := p.shotsOf.Find(r.Context(), shot); err == nil && s.Spec.Deadline.IsZero() {
		ask.By = p.clock.Now().Add(noDeadline)
	}
	out := api.SourceComparison{Shot: shot, Currency: p.currency, Basis: api.SourceComparisonBasisEstimated, Rows: []api.SourceRow{}}
	problem, notes, err := p.build(r.Context(), ask)
	if err == nil {
		if problem, err = httpapi.Convert[planning.Problem](problem); err == nil {
			out.By = problem.Start.Add(problem.Shots[0].Deadline.Duration())
			err = p.compareSources(r.Context(), &out, problem, notes, params.Baseline)
		}
	}
	httpapi.Answer(w, r, http.StatusOK, out, err)
}

// estimated is a row in the making.
type estimated struct {
	api.SourceRow
	ledger.Row
}

func (p *Plans) compareSources(ctx context.Context, out *api.SourceComparison, problem planning.Problem, notes notes, baseline *string) error {
	sourceOf, err := p.placesBySource(ctx)
	if err != nil {
		return err
	}
	names := []string{}
	for _, s := range sourceOf {
		if !slices.Contains(names, s) {
			names = append(names, s)
		}
	}
	slices.Sort(names)
	var rows []estimated
	for _, name := range append(names, BestMix) {
		only := planning.OnlyFrom(problem, func(_, id, _ string) bool { return name == BestMix || sourceOf[id] == name })
		row, err := p.onSource(ctx, name, only, notes, sourceOf)
		if err != nil {
			return err
		}
		rows = append(rows, row)
	}
	if baseline != nil && !slices.Contains(names, *baseline) {
		if _, known := sourceOf[*baseline]; !known {
			return httpapi.BadField("baseline", *baseline, "is no source and no host; there are "+strings.Join(names, ", "))
		}
		row, err := p.onSource(ctx, *baseline, planning.OnlyFrom(problem, func(_, id, _ string) bool { return id == *baseline }), notes, sourceOf)
		if err != nil {
			return err
		}
		rows = append(rows, row)
	}
	own := ""
	if len(problem.Hosts) > 0 {
		own = sourceOf[problem.Hosts[0].ID]
	}
	mark(out, rows, baseline, own)
	return nil
}

// mark names the rows that stand out and what each saves against the baseline: one's
// own hosts, where none is asked for.
func mark(out *api.SourceComparison, rows []estimated, baseline *string, own string) {
	plain := make([]ledger.Row, len(rows))
	for i, r := range rows {
		plain[i] = r.Row
	}
	m := ledger.Mark(plain)
	base := -1
	for i, r := range rows {
		if baseline != nil && r.Source == *baseline || baseline == nil && base < 0 && r.Source == own && r.FrameCost != "" {
			base = i
		}
	}
	for i := range rows {
		r := &rows[i]
		for _, x := range []struct {
			at   int
			mark api.SourceRowMarks
		}{{m.Cheapest, api.SourceRowMarksCheapest}, {m.Fastest, api.SourceRowMarksFastest}, {m.Balanced, api.SourceRowMarksBalanced}, {base, api.SourceRowMarksBaseline}} {
			if x.at == i {
				r.Marks = append(r.Marks, x.mark)
			}
		}
		if base >= 0 && base != i && r.FrameCost != "" && rows[base].FrameCost != "" {
			r.Saving = rows[base].Row.Cost.Minus(r.Row.Cost).String()
		}
		out.Rows = append(out.Rows, r.SourceRow)
	}
	if base >= 0 {
		out.Baseline = rows[base].Source
	}
}

// placesBySource tells the source of every host, offer and farm.
func (p *Plans) placesBySource(ctx context.Context) (map[string]string, error) {
	places, err := p.hostsOf.Places(ctx)
	out := map[string]string{}
	for _, x := range places {
		out[x.Name] = x.Source
	}
	return out, err
}

// onSource plans the work on one source and says what that comes to.
func (p *Plans) onSource(ctx context.Context, name string, problem planning.Problem, notes notes, sourceOf map[string]string) (estimated, error) {
	row := estimated{SourceRow: api.SourceRow{Source: name, Status: api.SourceRowStatusImpossible}}
	for _, l := range notes.LeftOut {
		if at := l.Place + ": " + l.Why; name != BestMix && (sourceOf[l.Place] == name || l.Place == name) && !slices.Contains(row.Unsupported, at) {
			row.Unsupported = append(row.Unsupported, at)
		}
	}
	plan, err := planning.Solve(ctx, problem, planning.Options{Effort: weighed})
	if err != nil || plan.Status == planning.Impossible {
		return row, err
	}
	row.Status = api.SourceRowStatusMeets
	if plan.Status == planning.Late {
		row.Status = api.SourceRowStatusLate
	}
	frames, known, summed := 0, 0, planning.Millis(0)
	costs := planning.Price(problem, plan)
	timings := map[[4]string]planning.Millis{}
	for _, t := range problem.Timings {
		kind, id := t.Place()
		timings[[4]string{t.Shot, kind, id, t.Crew}] = t.Frame
	}
	offers := map[string]string{}
	for _, v := range plan.Servers {
		offers[v.ID] = v.Offer
	}
	busy := map[string]planning.Millis{}
	for _, b := range plan.Bookings {
		kind, place := "host", b.Host
		if b.Server != "" {
			kind, place = "offer", offers[b.Server]
		} else if b.Farm != "" {
			kind, place = "farm", b.Farm
		}
		frame := timings[[4]string{b.Shot, kind, place, b.Crew}]
		frames += b.Frames
		summed += planning.Millis(b.Frames) * frame
		busy[b.Server] = max(busy[b.Server], 0) + (b.End - b.Start)
		if notes.Basis[basisKey(b.Shot, place, b.Crew)].Basis == timing.Measured {
			known += b.Frames
		}
	}
	row.Row = ledger.Row{Cost: costs.Total, Elapsed: plan.Finish.Duration(), Counts: plan.Status == planning.Meets}
	row.SourceRow.Cost, row.ElapsedS, row.RenderedS, row.Usable = costs.Total.String(), plan.Finish.Duration().Seconds(), summed.Duration().Seconds(), frames
	row.FrameCost = costs.Total.Scaled(big.NewRat(1, int64(max(1, frames)))).Rat().FloatString(4)
	row.MeasuredShare = float64(known) / float64(max(1, frames))
	var unused pricing.Money
	for i, v := range plan.Servers {
		meter := offer(problem, v.Offer).Meter()
		billed := meter.Billed((v.To - v.From).Duration())
		crews := 0
		for _, b := range plan.Bookings {
			if b.Server == v.ID {
				crews++
			}
		}
		used := min(billed, busy[v.ID].Duration()/time.Duration(max(1, min(crews, len(offer(problem, v.Offer).Crews)))))
		row.PaidS += billed.Seconds()
		row.UnusedS += (billed - used).Seconds()
		if billed > 0 {
			unused = unused.Plus(costs.Servers[i].Scaled(big.NewRat(int64(billed-used), int64(billed))))
		}
	}
	if row.PaidS > 0 {
		row.UnusedCost = unused.String()
	}
	return row, nil
}

func offer(p planning.Problem, id string) planning.Offer {
	i := slices.IndexFunc(p.Offers, func(o planning.Offer) bool { return o.ID == id })
	return p.Offers[i]
}
