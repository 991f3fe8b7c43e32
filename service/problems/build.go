package problems

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"rotanex.example/core/desks"
	"rotanex.example/core/dispatch"
	"rotanex.example/core/planning"
	"rotanex.example/core/pricing"
	"rotanex.example/core/replan"
	"rotanex.example/core/stock"
	"rotanex.example/core/timing"
	"rotanex.example/service/accounts"
	"rotanex.example/service/candidates"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/kept"
	"rotanex.example/service/shots"
	"rotanex.example/service/timings"
)

// horizon is how far past the last deadline opening hours are looked at, so that
// a plan that comes late still finds them.
const horizon = 14 * 24 * time.Hour

// Build turns stock, trials and prices into a problem.
func (p *Problems) Build(ctx context.Context, ask Ask) (planning.Problem, Notes, error) {
	var err error
	if ask.Shots, err = p.Shots.Expand(ctx, ask.Shots); err != nil {
		return planning.Problem{}, Notes{}, err
	}
	if ask.Pin, err = p.pins(ctx, ask.Pin); err != nil {
		return planning.Problem{}, Notes{}, err
	}
	b := builder{Problems: p, kept: map[string]kept.Input{}, now: p.Clock.Now().Truncate(time.Second), notes: Notes{Basis: map[string]timing.Estimate{}, Ask: &ask, LeftOut: []LeftOut{}, Deadlines: map[string]planning.Millis{}, FarmCrews: map[string]string{}, SeatDays: map[string]int{}, Sources: map[string]string{}, Lately: map[string]float64{}, InHand: map[string]planning.Millis{}, Desks: map[string]desks.Habits{}}}
	b.problem = planning.Problem{Format: planning.ProblemFormat, Start: b.now, Currency: p.Currency, Goal: planning.Cheapest, Timings: []planning.Timing{}}
	if ask.Goal != "" {
		b.problem.Goal = ask.Goal
	}
	if ask.Budget != "" {
		budget, err := pricing.ParseMoney(ask.Budget)
		if err != nil {
			return b.problem, b.notes, httpapi.BadField("/budget", ask.Budget, err.Error())
		}
		b.problem.Budget = &budget
	}
	if ask.Run != nil {
		left, err := p.rest(ctx, *ask.Run)
		if err != nil {
			return b.problem, b.notes, err
		}
		b.rest = left
		if ask.Shots = left.shots(ask); len(ask.Shots) == 0 {
			return b.problem, b.notes, httpapi.BadField("/shots", "", "none of these shots has a frame waiting in the run")
		}
		ask.Pin = slices.DeleteFunc(slices.Clone(ask.Pin), func(pin Pin) bool { return !slices.Contains(ask.Shots, pin.Shot) })
	}
	if err := b.addShots(ctx, ask); err != nil {
		return b.problem, b.notes, err
	}
	if b.turnaround, err = p.Timings.Turnaround(ctx); err != nil {
		return b.problem, b.notes, err
	}
	if err := b.addHosts(ctx, ask); err != nil {
		return b.problem, b.notes, err
	}
	if !ask.OwnedOnly {
		if err := b.addOffers(ctx); err != nil {
			return b.problem, b.notes, err
		}
		if err := b.addFarms(ctx); err != nil {
			return b.problem, b.notes, err
		}
		if err := b.addTransfers(ctx); err != nil {
			return b.problem, b.notes, err
		}
	}
	if b.rest != nil {
		if err := b.addHeld(ctx, ask); err != nil {
			return b.problem, b.notes, err
		}
		b.addPaidServers()
		recent, err := p.recent(ctx, *ask.Run, b.now.Add(-replan.Lately))
		if err != nil {
			return b.problem, b.notes, err
		}
		if b.notes.Disruptions, err = p.Disruptions(ctx); err != nil {
			return b.problem, b.notes, err
		}
		b.notes.Lately = replan.AsOfLate(&b.problem, recent, b.rest.hand, b.notes.Disruptions, func(t planning.Timing) float64 {
			_, place := t.Place()
			return b.notes.Basis[accounts.BasisKey(t.Shot, place, t.Crew)].Off()
		})
	}
	if err := b.assume(ask.Assume); err != nil {
		return b.problem, b.notes, err
	}
	err = b.choose(ask)
	return b.problem, b.notes, err
}

type builder struct {
	*Problems
	turnaround timings.Turnaround
	now        time.Time
	problem    planning.Problem
	notes      Notes
	shots      []plannedShot
	last       time.Time             // of the deadlines
	rest       *rest                 // of the run that is planned on; nil for none
	kept       map[string]kept.Input // of each shot, the frames that are done already
}

type plannedShot struct {
	shots.Shot
	view candidates.View
}

// candidate returns the shot's candidate of a crew. There is none of a crew that was
// declared after the shot was viewed: the stock may change while a plan is made.
func (s plannedShot) candidate(place, crew string) (candidates.Candidate, bool) {
	i := slices.IndexFunc(s.view.All, func(x candidates.Candidate) bool { return x.Place.Name == place && x.Crew.ID == crew })
	if i < 0 {
		return candidates.Candidate{}, false
	}
	return s.view.All[i], true
}

func (b *builder) addShots(ctx context.Context, ask Ask) error {
	for i, name := range ask.Shots {
		if slices.Contains(ask.Shots[:i], name) {
			return httpapi.BadField("/shots", name, "is listed twice")
		}
		shot, err := b.Shots.Find(ctx, name)
		if err != nil {
			return err
		}
		deadline := b.due(ask, shot)
		if deadline.IsZero() {
			return httpapi.BadField("/by", "", fmt.Sprintf("shot %s has no deadline of its own: say by when", name))
		}
		if !deadline.After(b.now) && b.rest != nil {
			deadline = b.now.Add(time.Minute) // what of a run is late already is finished as soon as it can be
		}
		if !deadline.After(b.now) {
			return httpapi.BadField("/by", deadline.UTC().Format(time.RFC3339), fmt.Sprintf("is past: it is %s now", b.now.Format(time.RFC3339)))
		}
		if deadline.After(b.last) {
			b.last = deadline
		}
		asked := shot
		asked.Spec.Deadline = deadline // the preflight shall judge by what was asked
		view, err := b.view(ctx, asked)
		if err != nil {
			return err
		}
		left := shot.FrameCount
		switch {
		case b.rest != nil:
			left = b.rest.waiting[name]
		case !ask.Again:
			if left, err = b.keepDone(ctx, shot); err != nil {
				return err
			}
		}
		if left == 0 {
			continue
		}
		b.shots = append(b.shots, plannedShot{shot, view})
		licence, err := b.licence(ctx, shot.Spec.Licence)
		if err != nil {
			return err
		}
		b.problem.Shots = append(b.problem.Shots, planning.Shot{
			ID: name, Frames: left, Licence: licence, After: shot.Spec.After, Deadline: b.millis(deadline), RAM: planning.Memory(view.Need.HostEach().GB()*1e6 + 0.5),
		})
	}
	if len(b.shots) == 0 {
		return nothingLeft(ask)
	}
	b.problem.Shots = planning.Linked(b.problem.Shots)
	b.priceSeats()
	return nil
}

// due is the deadline of a shot; zero: it has none, and nobody has said one.
func (b *builder) due(ask Ask, shot shots.Shot) time.Time {
	backlog := ask.Backlog()
	if b.rest != nil { // what the run has become counts
		backlog = b.rest.priority == dispatch.Backlog
	}
	switch {
	case backlog:
		return b.now.Add(backlogBy)
	case ask.By.IsZero():
		return shot.Spec.Deadline
	}
	return ask.By
}

// priceSeats makes of the price of an extra seat for a day what it costs until the last
// deadline of a shot that needs one.
func (b *builder) priceSeats() {
	const day = planning.Millis(24 * time.Hour / time.Millisecond)
	for i := range b.problem.Licences {
		l := &b.problem.Licences[i]
		days := 1
		for _, s := range b.problem.Shots {
			if s.Licence == l.ID {
				days = max(days, int((s.Deadline+day-1)/day))
			}
		}
		b.notes.SeatDays[l.ID] = days
		l.ExtraSeatPrice = l.ExtraSeatPrice.Times(int64(days))
	}
}

// licence adds the pool of a shot's licence to the problem, if its seats are limited.
func (b *builder) licence(ctx context.Context, pool string) (string, error) {
	if pool == "" || slices.ContainsFunc(b.problem.Licences, func(l planning.Licence) bool { return l.ID == pool }) {
		return pool, nil
	}
	found, err := b.Licences.Find(ctx, pool)
	if err != nil || found == nil {
		return "", err
	}
	// What open runs have hired cannot be hired again.
	hired, err := b.hired(ctx, pool)
	if err != nil {
		return "", err
	}
	seats := found.Seats
	if b.rest != nil {
		seats += hired // they last as long as what is planned here
	}
	b.problem.Licences = append(b.problem.Licences, planning.Licence{ID: pool, Seats: seats, ExtraSeats: max(0, found.ExtraSeats-hired), ExtraSeatPrice: found.ExtraSeatPrice})
	return pool, nil
}

// lookFor is how long, in real time, a plan waits for agents that are up to look for the
// files of a shot that was stored just now: they ask what to look for every few seconds.
const lookFor = 8 * time.Second

// view is the shot's view of every crew. One whose agent has not looked for its files by
// then is left out, and the plan says so.
func (b *builder) view(ctx context.Context, shot shots.Shot) (candidates.View, error) {
	until := b.Clock.WallNow().Add(lookFor)
	for {
		view, err := b.Candidates.Of(ctx, shot)
		if err != nil || !view.Looking() || !b.Clock.WallNow().Before(until) {
			return view, err
		}
		select {
		case <-ctx.Done():
			return view, ctx.Err()
		case <-b.Clock.After(lookFor / 20):
		}
	}
}

func (b *builder) millis(t time.Time) planning.Millis {
	return planning.Millis(t.Sub(b.now) / time.Millisecond)
}

func (b *builder) leaveOut(shot, place, crew, why, fix string) {
	b.notes.LeftOut = append(b.notes.LeftOut, LeftOut{Shot: shot, Place: place, Crew: crew, Why: why, Fix: strings.ReplaceAll(fix, "SHOT", shot)})
}

func (b *builder) addHosts(ctx context.Context, ask Ask) error {
	all, err := b.Hosts.Owned(ctx)
	if err != nil {
		return err
	}
	priority, err := dispatch.ParsePriority(ask.Priority)
	if err != nil {
		return httpapi.BadField("/priority", ask.Priority, err.Error())
	}
	if b.rest != nil {
		priority = b.rest.priority
	}
	if ask.KeepOthers {
		priority = min(priority, dispatch.Low) // the backlog makes room in any case
	}
	others, err := b.takenByOthers(ctx, ask.Run, priority, ask.With)
	if err != nil {
		return err
	}
	habits, err := b.Hosts.HabitsOf(ctx, all)
	if err != nil {
		return err
	}
	for _, h := range all {
		free, why, fix := b.freeFrom(h.Name, others[h.Name])
		memory := planning.Memory(h.Spec.MemoryGB * 1e6)
		host := planning.Host{ID: h.Name, RAM: &memory}
		host.Windows, host.Open = b.open(h, habits[h.Name], free, others[h.Name])
		used := map[string]bool{}
		for _, shot := range b.shots {
			usable := false
			for _, c := range h.Spec.Crews() {
				if b.deskKeeps(shot.Name, h, c) {
					continue
				}
				if frame, ok := b.estimate(shot, h.Name, c, b.turnaround.On(h.Name)); ok {
					usable, used[c.ID] = true, true
					b.problem.Timings = append(b.problem.Timings, planning.Timing{Shot: shot.Name, Host: h.Name, Crew: c.ID, Frame: frame})
				}
			}
			if usable && why != "" {
				b.leaveOut(shot.Name, h.Name, "", why, fix)
			}
		}
		for _, c := range h.Spec.Crews() {
			if used[c.ID] {
				host.Crews = append(host.Crews, planning.Crew{ID: c.ID, Devices: c.Devices, BusyPrice: h.Spec.BusyPrice(c)})
			}
		}
		b.notes.Sources[h.Name] = h.Source
		if len(host.Crews) > 0 {
			b.problem.Hosts = append(b.problem.Hosts, host)
			if h.Desk != nil {
				b.notes.Desks[h.Name] = habits[h.Name]
			}
		}
	}
	return nil
}

// freeFrom is when a host is free first, and why it is not at once, if it is not.
func (b *builder) freeFrom(host string, others []taken) (free time.Time, why, fix string) {
	free = b.now
	if by, is := takenUntil(others, b.now); is {
		free = by.Until
		why, fix = by.words()
	}
	if b.rest == nil || !b.rest.busy[host].After(b.now) {
		return free, why, fix
	}
	until := b.rest.busy[host]
	b.notes.InHand[host] = b.millis(until)
	if until.After(free) {
		free, why, fix = until, fmt.Sprintf("until %s it renders a frame of this run", until.UTC().Format("2006-01-02 15:04 MST")), ""
	}
	return free, why, fix
}

// estimate returns for how long a frame takes a crew up, its part of a turnaround with it, and keeps
// where its renderer's time comes from or why the crew is left out.
func (b *builder) estimate(shot plannedShot, place string, c stock.Crew, turnaround time.Duration) (planning.Millis, bool) {
	if b.rest != nil {
		if why := b.rest.excluded[accounts.BasisKey(shot.Name, place, c.ID)]; why != "" {
			b.leaveOut(shot.Name, place, c.ID, "in this run it gets no more of them: "+why, fmt.Sprintf("once what was wrong is fixed: rotanex pause %[1]s, then rotanex resume %[1]s", b.notes.Ask.Run.String()[:8]))
			return 0, false
		}
	}
	x, viewed := shot.candidate(place, c.ID)
	if !viewed {
		b.leaveOut(shot.Name, place, c.ID, "it was declared while this was planned", "plan again")
		return 0, false
	}
	if why, fix := x.Usable(); why != "" {
		b.leaveOut(shot.Name, place, c.ID, why, fix)
		return 0, false
	}
	b.notes.Basis[accounts.BasisKey(shot.Name, place, c.ID)] = x.Estimate
	// Frames of one start are checked and sent while the next is rendered: they share one turnaround.
	turnaround /= time.Duration(max(1, x.Estimate.InStart))
	return max(1, planning.Millis(x.Estimate.Seconds*1000+0.5)+planning.MillisOf(turnaround)), true
}

// keepDone keeps what is done already of a shot, and returns how many frames are left to be planned.
func (b *builder) keepDone(ctx context.Context, shot shots.Shot) (left int, err error) {
	now, _, err := b.Packages.Of(ctx, shot.Name)
	if err != nil {
		return 0, err
	}
	done, all, err := kept.Of(ctx, b.Store, shot, now.Files, b.kept)
	b.notes.Kept = append(b.notes.Kept, done...)
	b.kept[shot.Name] = kept.Input{Spec: shot.Spec, Kept: all}
	return shot.FrameCount - all.Len(), err
}

// nothingLeft says that all that was asked for is done.
func nothingLeft(ask Ask) error {
	return httpapi.BadField("/shots", Listed(ask.Shots), "is done already, every frame, as it is now: rotanex runs list shows by which run. Ask for them `again` (rotanex plan … --again) to render them once more")
}
