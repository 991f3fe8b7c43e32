package rehearsal

import (
	"context"
	"fmt"
	"math"
	"slices"
	"time"

	"rotanex.example/core/dispatch"
	"rotanex.example/core/forecast"
	"rotanex.example/core/planning"
	"rotanex.example/core/pricing"
	"rotanex.example/core/replan"
	"rotanex.example/core/simulate"
)

// happens lets happen what is due, and reports whether anything was noticed that bears on the
// schedule.
func (p *play) happens() (bool, error) {
	since, news := p.now.Sub(p.w.Problem.Start), false
	once := func(what string) bool {
		first := !p.noticed[what]
		p.noticed[what] = true
		return first
	}
	for i, h := range p.sim.Hosts {
		at, dies := p.w.truth.lost[h.Name]
		if dies && since >= at && once(h.Name+" died") {
			p.sim.Lose(i)
			p.neverDone(h.Name)
		}
		if dies && since >= at+noticed && once(h.Name+" is lost") {
			news = true
		}
	}
	for _, v := range p.lets {
		if !v.failed.IsZero() && !v.failed.After(p.now) && once(v.id+" failed") {
			news = true
		}
	}
	if x := p.w.urgent; x != nil && since >= x.comes && once("urgent") {
		return true, p.squeeze()
	}
	return p.ownersCome() || news, nil
}

// squeeze plans the urgent shot by itself, on one's own hosts, and books it before the others.
func (p *play) squeeze() error {
	problem := planning.Problem{Format: planning.ProblemFormat, Start: p.now, Currency: "EUR", Goal: planning.Cheapest, Shots: []planning.Shot{p.w.urgent.shot}, Hosts: p.hosts(p.busy(false)), Timings: slices.Clone(p.w.urgent.timings)}
	problem.Timings = slices.DeleteFunc(problem.Timings, func(t planning.Timing) bool { return p.noticed[t.Host+" is lost"] })
	plan, err := planning.Solve(context.Background(), problem, planning.Options{})
	if err != nil {
		return err
	}
	planned, err := simulate.Plan(problem, plan, p.now)
	if err != nil {
		return err
	}
	for i := range planned.Crews {
		planned.Crews[i].Shot = p.urgentAt()
	}
	p.lendsLater(planned.Crews)
	p.book(planned, false)
	return nil
}

// book books a plan's crews, and keeps what the others, the urgent shot's or those of the
// rest, have now.
func (p *play) book(planned *simulate.Planned, others bool) {
	hosts, crews, booked := planned.Hosts, planned.Crews, planned.Booked
	for _, k := range p.owes(others) {
		c, b := p.sim.Crews[k], p.booked[k]
		h := p.sim.Hosts[c.Host]
		c.Frames, c.Taken = c.Owed(), 0
		at := slices.IndexFunc(hosts, func(x simulate.Host) bool { return x.Name == h.Name && x.Nodes == 0 && h.Nodes == 0 })
		if at < 0 {
			at = len(hosts)
			hosts = append(hosts, h)
		}
		c.Host = at
		if c.Farm {
			c.State = dispatch.Ready // its job is to be handed over still
		}
		crews, booked = append(crews, c), append(booked, b)
	}
	p.first = len(p.sim.Crews)
	p.booked = append(p.booked, booked...)
	p.began = append(p.began, make([]time.Time, len(booked))...)
	p.sim.Book(hosts, crews)
}

// look looks at the schedule, if that is due, and plans anew where it falls short.
func (p *play) look(ctx context.Context, happened bool) error {
	half := p.outcome.HalfDone == 0 && p.doneFrames()*2 >= p.outcome.Frames
	since := p.now.Sub(p.looked)
	due := p.asked.Policy != replan.Off && (since >= forecast.LookAfter(p.finish.Sub(p.looked)) || happened && since >= atOnce)
	if !half && !due {
		return nil
	}
	rest := p.rest()
	if len(rest.Problem.Shots) == 0 {
		return nil
	}
	present, err := rest.Look(ctx)
	if err != nil {
		return err
	}
	p.finish = present.Finish
	if half {
		p.outcome.HalfWay, p.outcome.HalfDone = rest.Expected(), p.now.Sub(p.w.Problem.Start)
	}
	if !due {
		return nil
	}
	last := p.looked
	p.looked = p.now
	short := rest.Due() || rest.MaySave() && replan.TimeToSave(last, p.now, p.finish.Sub(p.now))
	if !happened && (!short || p.now.Sub(p.changed) < rest.Settles()) {
		return nil
	}
	next, err := rest.ByItself(ctx)
	if err != nil || next.Verdict.Act != replan.Change {
		return err
	}
	p.changed = p.now
	p.outcome.Changes++
	p.outcome.Moved += replan.Moved(rest.Plan, next.Plan)
	planned, err := p.prepare(next.Problem, next.Plan, p.mark())
	if err != nil {
		return err
	}
	for i := range planned.Crews { // shots that are done are not in the problem
		planned.Crews[i].Shot = slices.IndexFunc(p.w.Problem.Shots, func(s planning.Shot) bool { return s.ID == planned.Crews[i].Crew.Shot })
	}
	p.lendsLater(planned.Crews)
	p.book(planned, true)
	return nil
}

func (p *play) doneFrames() (n int) {
	for i := range p.w.Problem.Shots {
		n += p.sim.Shots[i].Done
	}
	return n
}

func (p *play) hand() (out []replan.InHand) {
	for _, k := range p.sim.Rendering() {
		c := &p.sim.Crews[k]
		out = append(out, replan.InHand{Shot: c.Crew.Shot, Host: c.Crew.Host, Crew: c.Name, Began: p.began[k], Takes: c.Frame, Devices: len(c.Devices)})
	}
	return out
}

// atFarms are the frames that farms have in hand, those that wait for their job to begin among
// them.
func (p *play) atFarms() (out []replan.InHand) {
	for k := range p.sim.Crews {
		c := &p.sim.Crews[k]
		nodes := p.sim.Hosts[c.Host].Nodes
		for range p.sim.Held(c.Host) * min(1, nodes) {
			row := unframed(p.booked[k].Row)
			out = append(out, replan.InHand{Shot: c.Crew.Shot, Host: fmt.Sprint(c.Crew.Host, " ", c.Host), Takes: simulate.Milliseconds(p.w.believed(row)), Nodes: nodes})
		}
	}
	return out
}

func (p *play) due(shot string) planning.Millis {
	for _, s := range p.w.Problem.Shots {
		if s.ID == shot {
			return s.Deadline
		}
	}
	return 0
}

// busy is until when hosts render what they have in hand, or what was booked for the urgent
// shot.
func (p *play) busy(urgent bool) map[string]time.Time {
	out := replan.BusyUntil(p.hand(), p.now)
	if urgent {
		for _, k := range p.owes(true) {
			if c := &p.sim.Crews[k]; c.Owed() > 0 {
				out[c.Crew.Host] = latest(out[c.Crew.Host], c.End)
			}
		}
	}
	for id, used := range p.used { // it is not known for how long
		if used {
			out[id] = latest(out[id], p.now.Add(p.w.Uncertainty.Desks[id].For))
		}
	}
	return out
}

// hosts are one's own, as they are from now on.
func (p *play) hosts(busy map[string]time.Time) (out []planning.Host) {
	since := planning.MillisOf(p.now.Sub(p.w.Problem.Start))
	for _, h := range p.w.Problem.Hosts {
		if p.noticed[h.ID+" is lost"] {
			continue
		}
		from := planning.Millis(0)
		if until := busy[h.ID]; until.After(p.now) {
			from = planning.MillisOf(until.Sub(p.now))
		}
		var open [][2]planning.Millis
		for _, w := range h.Windows {
			if w = [2]planning.Millis{max(from, w[0]-since), w[1] - since}; w[0] < w[1] {
				open = append(open, w)
			}
		}
		h.Windows = open
		out = append(out, p.w.books(h, p.now))
	}
	return out
}

// rest is what is left, as it is known now.
func (p *play) rest() replan.Rest {
	out, since := p.asked, planning.MillisOf(p.now.Sub(p.w.Problem.Start))
	busy := p.busy(true)
	q := planning.Problem{Format: planning.ProblemFormat, Start: p.now, Currency: "EUR", Goal: planning.Cheapest, Hosts: p.hosts(busy), Offers: slices.Clone(p.w.Problem.Offers), Farms: p.w.Problem.Farms}
	out.Deadlines = map[string]planning.Millis{}
	for i, s := range p.w.Problem.Shots {
		if s.Frames = p.sim.Waiting(i); s.Frames == 0 {
			continue
		}
		s.Deadline = max(60_000, s.Deadline-since)
		out.Deadlines[s.ID] = s.Deadline
		q.Shots = append(q.Shots, s)
	}
	out.Uncertainty = forecast.Uncertainty{Typical: map[string]float64{}, Common: p.w.Uncertainty.Common, Desks: p.w.Uncertainty.Desks, Disruptions: p.w.Uncertainty.Disruptions, Rendered: map[string]float64{}}
	for i, s := range p.w.Problem.Shots {
		out.Uncertainty.Rendered[s.ID] = float64(p.sim.Shots[i].Done) / float64(s.Frames)
	}
	out.Uncertainty.Held = replan.HeldByFarms(p.atFarms(), func(shot string) planning.Millis {
		return max(60_000, p.due(shot)-since)
	})
	seen := p.seen()
	for _, t := range p.w.Problem.Timings {
		if _, waits := out.Deadlines[t.Shot]; !waits || p.noticed[t.Host+" is lost"] {
			continue
		}
		factor, off := learnt(seen[unframed(t)], p.w.Uncertainty.Typical[forecast.TimingKey(t)])
		out.Uncertainty.Typical[forecast.TimingKey(t)] = off
		t.Frame = max(1, planning.Millis(float64(t.Frame)*factor))
		q.Timings = append(q.Timings, t)
	}
	paid, toCome, spent := p.servers()
	for _, v := range replan.AddPaid(&q, paid, busy) {
		for _, t := range q.Timings {
			if t.Host == v.Host {
				of := t
				of.Host, of.Offer = "", v.Offer
				out.Uncertainty.Typical[forecast.TimingKey(t)] = out.Uncertainty.Typical[forecast.TimingKey(of)]
			}
		}
	}
	var recent []replan.Finished
	for _, f := range p.done {
		if !f.Ended.After(p.now) && p.now.Sub(f.Ended) < replan.Lately {
			recent = append(recent, f.Finished)
		}
	}
	replan.AsOfLate(&q, recent, p.hand(), p.w.Uncertainty.Disruptions, func(t planning.Timing) float64 { return out.Uncertainty.Typical[forecast.TimingKey(t)] })
	var booked []replan.Booked
	for _, k := range p.owes(false) {
		c := p.sim.Crews[k]
		booked = append(booked, replan.Booked{Crew: c.Crew, Nodes: p.sim.Hosts[c.Host].Nodes})
	}
	spare := p.cap.Minus(spent)
	out.Problem, out.Plan, out.Spare = q, replan.Present(q, toCome, booked), &spare
	return out
}

// servers are those that are paid for still, those to come, and what the first have cost.
func (p *play) servers() (paid []replan.Paid, toCome []replan.ToCome, spent pricing.Money) {
	for _, v := range p.lets {
		if v.from.After(p.now) {
			toCome = append(toCome, replan.ToCome{ID: v.id, Offer: v.terms.ID, Host: v.id, FromAt: v.from, ToAt: v.to})
			continue
		}
		meter := v.terms.Meter()
		until := v.from.Add(meter.Billed(v.to.Sub(v.from)))
		if v.ended.After(until) { // it stays on
			until = v.from.Add(meter.Billed(v.ended.Sub(v.from)))
		}
		spent = spent.Plus(meter.Charge(until.Sub(v.from)))
		if until.After(p.now) {
			paid = append(paid, replan.Paid{Host: v.id, Offer: v.terms.ID, From: v.from, Until: until})
		}
	}
	return paid, toCome, spent
}

// seen are, of each row, the frames done so far over what was believed of them.
func (p *play) seen() map[planning.Timing][]float64 {
	out := map[planning.Timing][]float64{}
	for _, f := range p.done {
		if !f.Ended.After(p.now) {
			out[f.row] = append(out[f.row], math.Log(f.Seconds*1000/p.w.believed(f.row)))
		}
	}
	return out
}

// learnt stands for the timing model: by what factor frames of a row take longer than was
// believed, and how well that is known, from those that were done. It is what a normal prior
// gives, whose evidence is their middle.
func learnt(logs []float64, off float64) (factor, still float64) {
	if len(logs) == 0 || off == 0 {
		return 1, off
	}
	const single = 0.15 // of one frame
	slices.Sort(logs)
	middle := logs[len(logs)/2]
	evidence, prior := float64(len(logs))/(single*single), 1/(off*off)
	return math.Exp(middle * evidence / (evidence + prior)), 1 / math.Sqrt(evidence+prior)
}
