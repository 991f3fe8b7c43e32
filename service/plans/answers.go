package plans

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"time"

	"github.com/google/uuid"
	lru "github.com/hashicorp/golang-lru/v2"

	"rotanex.example/api"
	"rotanex.example/core/forecast"
	"rotanex.example/core/planning"
	"rotanex.example/core/planning/questions"
	"rotanex.example/core/pricing"
	"rotanex.example/service/accounts"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/problems"
)

// brief is the plan without its bookings, as in a list.
func (r Plan) brief(problem planning.Problem, plan planning.Plan) api.Plan {
	at := clockOf(problem)
	out := api.Plan{
		Id: r.ID, Created: r.CreatedAt.UTC(), Shots: r.Shots, Status: api.PlanStatus(r.Status), Currency: r.Currency, Goal: problem.Goal,
		Cost: plan.Cost.String(), CostBound: plan.CostBound.String(), Start: problem.Start, Finish: at(plan.Finish),
		Slack: r.Notes.Slack, Assumes: r.Notes.Assumes, Run: r.RunID, CurveOf: r.PartOf, Chance: r.Chance, Gain: r.Notes.Gain,
	}
	if len(plan.Servers)+len(plan.ExtraSeats) > 0 || slices.ContainsFunc(plan.Bookings, func(b planning.Booking) bool { return b.Farm != "" }) {
		out.OutsideCost = planning.Outside(problem, plan).String()
	}
	if may := planning.AtMost(problem, plan).Plus(r.Notes.Ask.MayLet()); !may.IsZero() || out.OutsideCost != "" {
		out.MaySpend = may.String()
	}
	if plan.FinishBound > 0 {
		out.FinishBound = at(plan.FinishBound)
	}
	due := r.Notes.Ask == nil || !r.Notes.Ask.Backlog()
	for _, s := range problem.Shots {
		if d := at(r.Notes.Deadline(s)); due && d.After(out.Deadline) {
			out.Deadline = d
		}
	}
	if r.Curve != nil {
		out.CurveOf = &r.ID
	}
	return out
}

// briefs are plans as lists show them. Nothing in that changes but whether a curve was drawn.
type briefs = lru.Cache[uuid.UUID, api.Plan]

func newBriefs() *briefs {
	all, _ := lru.New[uuid.UUID, api.Plan](1000) // fails for sizes below one
	return all
}

// list is a page of plans as a list shows them. Each is read once.
func (p *Plans) list(ctx context.Context, cursor *string, limit *int) (api.PlanList, error) {
	heads, next, err := p.page(ctx, cursor, limit)
	out := api.PlanList{Items: []api.Plan{}, Next: next}
	if err != nil {
		return out, err
	}
	unread, err := p.all(ctx, slices.DeleteFunc(httpapi.Each(heads, func(h head) uuid.UUID { return h.ID }), p.briefs.Contains))
	for _, found := range unread {
		one, failed := record(found, false)
		if err = errors.Join(err, failed); failed == nil {
			p.briefs.Add(found.ID, one)
		}
	}
	for _, h := range heads {
		one, known := p.briefs.Get(h.ID)
		if !known {
			continue // it was deleted meanwhile
		}
		if h.Drawn {
			one.CurveOf = &one.Id
		}
		out.Items = append(out.Items, one)
	}
	return out, err
}

func clockOf(problem planning.Problem) func(planning.Millis) time.Time {
	return func(m planning.Millis) time.Time { return problem.Start.Add(m.Duration()) }
}

// record is the plan as a list shows it, or whole.
func record(r Plan, whole bool) (api.Plan, error) {
	problem, plan, err := r.open()
	if err != nil {
		return api.Plan{}, err
	}
	out := r.brief(problem, plan)
	if !whole {
		return out, nil
	}
	out.Choices = choicesOf(cmp.Or(r.Notes.Ask, &problems.Ask{Shots: r.Shots, Goal: problem.Goal, Run: r.RunID, By: out.Deadline}))
	for _, lost := range plan.Impossible {
		out.Impossible = append(out.Impossible, struct {
			Shot string `json:"shot"`
			Why  string `json:"why"`
		}{lost.Shot, lost.Why})
	}
	out.LeftOut = []api.LeftOut{}
	for _, x := range r.Notes.LeftOut {
		out.LeftOut = append(out.LeftOut, api.LeftOut{Shot: x.Shot, Place: x.Place, Crew: x.Crew, Why: x.Why, Fix: x.Fix})
	}
	for _, k := range r.Notes.Kept {
		out.Kept = append(out.Kept, api.KeptFrames{Shot: k.Shot, Run: k.Run, Frames: k.Frames, Count: k.N})
	}
	sources := problems.SourcesOf(problem, r.Notes)
	r.addBookings(&out, problem, plan, sources)
	addPicture(&out, problem, plan, sources)
	if out.Problem, err = httpapi.Convert[map[string]any](json.RawMessage(r.Problem)); err != nil {
		return out, err
	}
	out.Plan, err = httpapi.Convert[map[string]any](json.RawMessage(r.Plan))
	return out, err
}

func (r Plan) addBookings(out *api.Plan, problem planning.Problem, plan planning.Plan, sources map[string]string) {
	at, costs := clockOf(problem), planning.Price(problem, plan)
	out.Servers, out.Bookings = []api.PlannedServer{}, []api.PlannedBooking{}
	offers, offerOf := planning.ByID(problem.Offers, func(o planning.Offer) string { return o.ID }), map[string]string{}
	for i, v := range plan.Servers {
		offerOf[v.ID] = v.Offer
		o := offers[v.Offer]
		out.Servers = append(out.Servers, api.PlannedServer{
			Id: v.ID, Offer: v.Offer, Source: o.Source, From: at(v.From), Usable: at(v.From + o.Lead), To: at(v.To),
			BilledS: o.Meter().Billed((v.To - v.From).Duration()).Seconds(), Cost: costs.Servers[i].String(),
		})
	}
	for i, b := range plan.Bookings {
		place := b.Where()
		if b.Server != "" {
			place = offerOf[b.Server]
		}
		basis := r.Notes.Basis[accounts.BasisKey(b.Shot, place, b.Crew)]
		row := api.PlannedBooking{
			Shot: b.Shot, Place: b.Where(), Source: sources[place], Owned: b.Host != "", Crew: b.Crew, Frames: b.Frames, Start: at(b.Start), End: at(b.End),
			FrameS: basis.Seconds, OpeningS: basis.Opening, InStart: basis.InStart, Basis: api.PlannedBookingBasis(basis.Basis), LowS: basis.Low, HighS: basis.High,
		}
		if b.Server == "" {
			row.Cost = costs.Bookings[i].String()
		}
		out.Bookings = append(out.Bookings, row)
	}
}

// addPicture adds what a picture of the plan needs: uploads, the hours in which hosts are
// free, and what each source costs.
func addPicture(out *api.Plan, problem planning.Problem, plan planning.Plan, sources map[string]string) {
	at := clockOf(problem)
	out.Uploads, out.Hours, out.Sources = []api.PlannedUpload{}, []api.HostHours{}, []api.SourceCost{}
	for _, u := range plan.Uploads {
		out.Uploads = append(out.Uploads, api.PlannedUpload{Shot: u.Shot, Source: u.Source, Start: at(u.Start), End: at(u.End)})
	}
	last := plan.Finish
	for _, s := range problem.Shots {
		last = max(last, s.Deadline)
	}
	for _, h := range problem.Hosts {
		used := slices.ContainsFunc(plan.Bookings, func(b planning.Booking) bool { return b.Host == h.ID })
		open := slices.ContainsFunc(h.Hours(), func(w [2]planning.Millis) bool { return w[0] <= 0 && w[1] >= last })
		if !used || open {
			continue
		}
		row := api.HostHours{Host: h.ID}
		for _, w := range h.Hours() {
			if w[0] < last {
				row.Windows = append(row.Windows, struct {
					From time.Time `json:"from"`
					To   time.Time `json:"to"`
				}{at(w[0]), at(min(w[1], last))})
			}
		}
		out.Hours = append(out.Hours, row)
	}
	for _, s := range questions.SourceCosts(problem, plan, sources) {
		row := api.SourceCost{Source: s.Source, Frames: s.Frames, Cost: s.Cost.Rounded().String(), PaidS: s.Paid.Seconds(), UnusedS: s.Unused.Seconds()}
		if !s.MinimumCharge.IsZero() {
			row.MinimumCharge = s.MinimumCharge.String()
		}
		out.Sources = append(out.Sources, row)
	}
}

func showForecast(of Plan, kept answerOfForecast) (api.PlanForecast, error) {
	f := kept.Forecast
	out := api.PlanForecast{
		Currency: of.Currency, Simulations: f.Simulations, Seed: int64(kept.Seed), RestsOn: append([]string{}, kept.RestsOn...),
		Chance: f.Chance, Never: f.Never, Curve: []time.Time{},
	}
	problem, _, err := of.open()
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
	out.Finish = times(f.Finish)
	for _, x := range []struct {
		to *string
		v  float64
	}{{&out.Cost.P10, f.Cost.P10}, {&out.Cost.P50, f.Cost.P50}, {&out.Cost.P90, f.Cost.P90}} {
		*x.to = pricing.MustMoney(fmt.Sprintf("%.6f", x.v)).String()
	}
	for i, s := range f.Shots {
		out.Shots = append(out.Shots, api.ShotForecast{Shot: s.ID, Chance: s.Chance, Deadline: at(of.Notes.Deadline(problem.Shots[i]).Duration().Seconds()), Finish: times(s.Finish), RenderingS: s.RenderingS, OpeningS: s.OpeningS})
	}
	curve := func(finishes []float64) []time.Time {
		return httpapi.Each(slices.DeleteFunc(slices.Clone(finishes), func(s float64) bool { return s < 0 }), at)
	}
	out.Curve = curve(f.Finishes)
	if k := f.Kept; k != nil {
		out.KeptFinish, out.KeptCurve = times(k.Finish), curve(k.Finishes)
		for i, s := range k.Shots {
			out.Shots[i].KeptFinish = times(s)
		}
	}
	return out, nil
}

func showCurve(of Plan, by alone) api.Curve {
	out := api.Curve{Currency: of.Currency, Rule: balancedBy}
	for i, x := range of.Curve.Points {
		row := api.CurvePoint{Cost: x.Cost, Finish: x.Finish, Plan: x.Plan, Status: api.PlanStatus(x.Status)}
		switch i {
		case of.Curve.Cheapest:
			row.Mark = api.CurvePointMarkCheapest
		case of.Curve.Fastest:
			row.Mark = api.CurvePointMarkFastest
		case of.Curve.Balanced:
			row.Mark = api.CurvePointMarkBalanced
		}
		out.Points = append(out.Points, row)
	}
	if by.Host != "" {
		problem, _, err := of.open()
		if err == nil {
			out.Alone.Host, out.Alone.Cost, out.Alone.Finish = by.Host, by.Plan.Cost.String(), problem.Start.Add(by.Plan.Finish.Duration())
		}
	}
	return out
}

func showReasons(of Plan, x explained) (api.PlanReasons, error) {
	out := api.PlanReasons{Currency: of.Currency, Used: []api.PlanReason{}, Unused: []api.PlanReason{}, Short: []api.Shortage{}, Remedies: []api.Remedy{}}
	problem, _, err := of.open()
	for _, r := range x.Reasons {
		row := api.PlanReason{Place: r.Place, Shot: r.Shot, Text: r.Text}
		if r.Used {
			out.Used = append(out.Used, row)
		} else {
			out.Unused = append(out.Unused, row)
		}
	}
	for _, s := range x.Shortages {
		out.Short = append(out.Short, api.Shortage{Shot: s.Shot, Frames: s.Frames, Text: s.Text})
	}
	for _, r := range x.Remedies {
		out.Remedies = append(out.Remedies, api.Remedy{Change: r.Change, Cost: r.Cost.String(), Finish: problem.Start.Add(r.Finish.Duration())})
	}
	return out, err
}

func showSources(shot, currency string, x compared) api.SourceComparison {
	out := api.SourceComparison{Shot: shot, Currency: currency, By: x.By, Basis: api.SourceComparisonBasisEstimated, Baseline: x.Baseline, Rows: []api.SourceRow{}}
	base := slices.IndexFunc(x.Rows, func(r questions.Alternative) bool { return r.Source == x.Baseline && r.Frames > 0 })
	for i, r := range x.Rows {
		row := api.SourceRow{Source: r.Source, Status: api.SourceRowStatusImpossible, Unsupported: x.Unsupported[r.Source]}
		if r.Frames > 0 {
			row.Status = api.SourceRowStatusMeets
			if r.Status == planning.Late {
				row.Status = api.SourceRowStatusLate
			}
			row.Cost, row.ElapsedS, row.RenderedS, row.Usable = r.Cost.String(), r.Elapsed.Seconds(), r.Rendered.Seconds(), r.Frames
			row.FrameCost = r.FrameCost().Rat().FloatString(4)
			row.MeasuredShare = float64(r.Measured) / float64(r.Frames)
		}
		if row.PaidS, row.UnusedS = r.Paid.Seconds(), r.Unused.Seconds(); r.Paid > 0 {
			row.UnusedCost = r.UnusedCost.String()
		}
		for _, m := range []struct {
			at   int
			mark api.SourceRowMarks
		}{{x.Marks.Cheapest, api.SourceRowMarksCheapest}, {x.Marks.Fastest, api.SourceRowMarksFastest}, {x.Marks.Balanced, api.SourceRowMarksBalanced}, {base, api.SourceRowMarksBaseline}} {
			if m.at == i {
				row.Marks = append(row.Marks, m.mark)
			}
		}
		if base >= 0 && base != i && r.Frames > 0 {
			row.Saving = x.Rows[base].Cost.Minus(r.Cost).String()
		}
		out.Rows = append(out.Rows, row)
	}
	return out
}

// askOf turns a request into what is asked.
func askOf(x api.NewPlan) problems.Ask {
	a := problems.Ask{
		Shots: x.Shots, By: x.By, Goal: string(x.Goal), Budget: x.Budget, OwnedOnly: x.Rented != nil && !*x.Rented,
		TimeLimit: time.Duration(float64(x.TimeLimitS) * float64(time.Second)), Slack: share(x.Slack), Confidence: share(x.Confidence),
		Contingency: x.Contingency, NotBefore: x.NotBefore, Without: x.Without, Run: x.Run, Again: x.Again, KeepOthers: x.KeepOthers, Priority: string(x.Priority), Devices: string(x.Devices),
	}
	for _, pin := range x.Pin {
		a.Pin = append(a.Pin, problems.Pin{Shot: pin.Shot, Places: pin.Places})
	}
	for _, s := range x.Assume {
		a.Assume = append(a.Assume, problems.Assumption{What: string(s.What), Name: s.Name, Like: s.Like, Price: s.Price, Count: s.Count, Factor: share(s.Factor), At: s.At})
	}
	return a
}

// choicesOf turns what was asked into the request that asks it again.
func choicesOf(a *problems.Ask) api.NewPlan {
	rented := !a.OwnedOnly
	out := api.NewPlan{
		Shots: a.Shots, By: a.By, Goal: api.NewPlanGoal(a.Goal), Budget: a.Budget, Rented: &rented, TimeLimitS: float32(a.TimeLimit.Seconds()),
		Slack: float32(a.Slack), Confidence: float32(a.Confidence), Contingency: a.Contingency, NotBefore: a.NotBefore, Without: a.Without, Run: a.Run, Again: a.Again, KeepOthers: a.KeepOthers, Priority: api.Priority(a.Priority), Devices: api.NewPlanDevices(a.Devices),
	}
	for _, pin := range a.Pin {
		out.Pin = append(out.Pin, api.Pin{Shot: pin.Shot, Places: pin.Places})
	}
	for _, s := range a.Assume {
		out.Assume = append(out.Assume, api.Assumption{What: api.AssumptionWhat(s.What), Name: s.Name, Like: s.Like, Price: s.Price, Count: s.Count, Factor: float32(s.Factor), At: s.At})
	}
	return out
}

// share is a number of the contract as it was written there: 0.1, not 0.10000000149.
func share(v float32) float64 {
	out, _ := strconv.ParseFloat(strconv.FormatFloat(float64(v), 'g', -1, 32), 64)
	return out
}

func (p *Plans) show(ctx context.Context, id uuid.UUID) (api.Plan, error) {
	found, err := p.find(ctx, id)
	if err != nil {
		return api.Plan{}, err
	}
	return record(found, true)
}

// changesRecord is what differs from one plan to another.
func changesRecord(a, b Plan) (out api.PlanChanges, err error) {
	if out.Before, err = record(a, true); err != nil {
		return out, err
	}
	if out.After, err = record(b, true); err != nil {
		return out, err
	}
	out.Before.Problem, out.Before.Plan, out.After.Problem, out.After.Plan = nil, nil, nil, nil
	out.Changes = []api.PlanChange{}
	changes, err := changed(a, b)
	for _, x := range changes {
		out.Changes = append(out.Changes, api.PlanChange{Place: x.Place, Shot: x.Shot, Text: x.Text})
	}
	return out, err
}
