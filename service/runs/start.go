package runs

import (
	"context"
	"fmt"
	"math/big"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"rotanex.example/core/dispatch"
	"rotanex.example/core/frames"
	"rotanex.example/core/planning"
	"rotanex.example/core/pricing"
	"rotanex.example/service/accounts"
	"rotanex.example/service/bookings"
	"rotanex.example/service/farms"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/licences"
	"rotanex.example/service/queue"
	"rotanex.example/service/rental"
	"rotanex.example/service/shots"
	"rotanex.example/service/states"
)

// defaultTries is how often a frame may fail before it is given up.
const defaultTries = dispatch.DefaultTries

// Wanted is how a person wants a plan to be carried out.
type Wanted struct {
	Plan         uuid.UUID
	Tries        int    // of a frame, before it is given up; 0: the usual
	Spend        string // money that servers, farms and seats may cost at most; "": nothing
	AcceptProofs bool   // farms' proof frames need nobody who accepts them
	Request      []byte
}

// Start carries out a plan. Of a run that stands already under its id nothing changes.
func (q *Runs) Start(ctx context.Context, all *shots.Shots, id uuid.UUID, want Wanted) error {
	tries := want.Tries
	if tries == 0 {
		tries = defaultTries
	}
	run := Run{ID: id, Kind: KindRun, PlanID: &want.Plan, Request: want.Request, Tries: tries, CreatedAt: q.clock.Now(), AcceptProofs: want.AcceptProofs}
	p, err := q.planOf(ctx, run.PlanID, run.ID)
	if err != nil {
		return httpapi.NotFound(fmt.Sprintf("there is no plan %s; rotanex plans list shows them", want.Plan))
	}
	if p.Plan.Status == planning.Impossible {
		return httpapi.Conflict("the plan is impossible: it has no bookings to carry out")
	}
	only, err := suits(q.store.WithContext(ctx), id, want.Plan)
	switch {
	case err != nil:
		return err
	case only.Assumes:
		return httpapi.Conflict("the plan assumes what is not so: it cannot be carried out")
	case only.OfRun != nil:
		return httpapi.Conflict("the plan is for the rest of a run: rotanex replan RUN --apply carries it out there")
	}
	if run.Priority, err = dispatch.ParsePriority(only.Priority); err != nil {
		return err
	}
	if run.Cap, err = p.spend(want.Spend); err != nil {
		return err
	}
	b := Beginning{Run: run, Hired: p.hires(id, run.CreatedAt)}
	if err := q.addShots(ctx, all, &b, p); err != nil {
		return err
	}
	hostOf := map[string]string{}
	for _, v := range p.Plan.Servers {
		// The run's id is in the name: two runs may have a server of the same plan id.
		host := strings.ReplaceAll(v.ID, "#", "-") + "." + id.String()[:8]
		hostOf[v.ID] = host
		b.Servers = append(b.Servers, rental.Server{
			RunID: id, ID: v.ID, Offer: v.Offer, Host: host, State: states.ServerPlanned, FromAt: p.At(v.From), ToAt: p.At(v.To), PaidAt: p.paidUntil(v),
		})
	}
	booked := map[planning.Booking]bool{}
	for _, x := range gathered(p.Plan.Bookings) {
		b.Bookings = append(b.Bookings, p.booking(id, x, hostOf))
		if x.Farm != "" {
			b.FarmJobs = append(b.FarmJobs, p.farmJob(id, want.Plan, x))
		}
		booked[planning.Booking{Shot: x.Shot, Host: x.Host, Crew: x.Crew}] = true
	}
	for _, t := range p.Problem.Timings {
		if reserve := (planning.Booking{Shot: t.Shot, Host: t.Host, Crew: t.Crew}); t.Host != "" && !booked[reserve] {
			b.Bookings = append(b.Bookings, p.reserves(id, reserve)...)
		}
	}
	return q.Begin(ctx, b)
}

// addShots adds the plan's shots to a run, each with its frames: those that are planned
// wait, those that are done already are taken over.
func (q *Runs) addShots(ctx context.Context, all *shots.Shots, b *Beginning, p planned) error {
	wanted, order := map[string]int{}, []string{}
	want := func(name string, n int) {
		if _, known := wanted[name]; !known {
			order = append(order, name)
		}
		wanted[name] += n
	}
	for _, s := range p.Problem.Shots {
		want(s.ID, s.Frames)
	}
	done := map[string]frames.Set{}
	for _, k := range p.Kept {
		set, err := frames.Parse(k.Frames)
		if err != nil {
			return err
		}
		want(k.Shot, set.Len())
		done[k.Shot] = done[k.Shot].Plus(set)
		b.Kept = append(b.Kept, Kept{k.Run, k.Shot, set})
	}
	for _, name := range order {
		shot, err := all.Find(ctx, name)
		if err != nil {
			return err
		}
		if shot.FrameCount != wanted[name] {
			return httpapi.Conflict(fmt.Sprintf("shot %s has %d frames now and had %d when it was planned: plan again", name, shot.FrameCount, wanted[name]))
		}
		row := Shot{RunID: b.Run.ID, Shot: name, Spec: shot.Spec}
		if row.Package, err = q.packageOf(ctx, name); err != nil {
			return err
		}
		b.Shots = append(b.Shots, row)
		for n := range shot.Frames().Minus(done[name]).All() {
			b.Frames = append(b.Frames, queue.Frame{RunID: b.Run.ID, Shot: name, Frame: n})
		}
	}
	return nil
}

// planned is the plan that a run carries out, as what it books.
type planned struct{ accounts.Carried }

func (q *Runs) planOf(ctx context.Context, plan *uuid.UUID, run uuid.UUID) (planned, error) {
	p, err := q.accounts.CarriedBy(ctx, plan, run)
	return planned{p}, err
}

// reserves makes a booking of no frames for each stretch in which an owned host is
// open until the plan's last deadline.
func (p planned) reserves(run uuid.UUID, x planning.Booking) []bookings.Booking {
	var out []bookings.Booking
	last := p.Plan.Finish
	for _, s := range p.Problem.Shots {
		last = max(last, s.Deadline)
	}
	for _, h := range p.Problem.Hosts {
		for _, w := range h.Windows {
			if x.Start, x.End = max(0, w[0]), min(w[1], last); h.ID == x.Host && x.Start < x.End {
				out = append(out, p.booking(run, x, nil))
			}
		}
	}
	return out
}

// paidUntil is when the next paid increment of a server would begin.
func (p planned) paidUntil(v planning.Server) time.Time {
	meter := p.Meter(v.Offer)
	return p.At(v.From).Add(meter.Billed((v.To - v.From).Duration()))
}

// booking turns a booking of the plan into one of the run.
func (p planned) booking(run uuid.UUID, x planning.Booking, hostOf map[string]string) bookings.Booking {
	host, kind, place := x.Host, "host", x.Host
	crews := []planning.Crew(nil)
	var closeAt *time.Time
	for _, h := range p.Problem.Hosts {
		if h.ID != x.Host {
			continue
		}
		crews = h.Crews
		for _, w := range h.Windows {
			if w[0] <= x.Start && x.End <= w[1] {
				closes := p.At(w[1])
				closeAt = &closes
			}
		}
	}
	for _, v := range p.Plan.Servers {
		if v.ID == x.Server {
			host, kind, place = hostOf[v.ID], "offer", v.Offer
			offer := p.Offer(v.Offer)
			crews = offer.Crews
			closes := p.paidUntil(v).Add(-offer.Wrap.Duration())
			closeAt = &closes
		}
	}
	out := bookings.Booking{RunID: run, Shot: x.Shot, Host: host, Crew: x.Crew, Frames: x.Frames, StartAt: p.At(x.Start), EndAt: p.At(x.End), CloseAt: closeAt, Nodes: 1, Devices: []string{}}
	if x.Farm != "" {
		kind, place = "farm", x.Farm
		out.Host, out.Crew, out.Nodes, out.Farm = x.Farm, p.FarmCrews[x.Shot+" "+x.Farm], x.Nodes, true
	}
	for _, c := range crews {
		if c.ID == x.Crew {
			out.Devices = c.Devices
		}
	}
	for _, t := range p.Problem.Timings {
		if k, at := t.Place(); t.Shot == x.Shot && k == kind && at == place && t.Crew == x.Crew {
			out.FrameS = float64(t.Frame) / float64(time.Second/time.Millisecond)
		}
	}
	return out
}

// spend reads what may be spent outside. A plan that rents servers, hires seats or
// uses farms is begun only if somebody said how much that may be.
func (p planned) spend(said string) (*string, error) {
	outside := planning.Outside(p.Problem, p.Plan)
	if said == "" {
		if len(p.Plan.Servers) > 0 || len(p.Plan.ExtraSeats) > 0 || slices.ContainsFunc(p.Plan.Bookings, func(b planning.Booking) bool { return b.Farm != "" }) {
			return nil, httpapi.BadField("/spend", "", fmt.Sprintf("the plan spends %s %s on servers, farms and seats: say what may be spent at most, such as %s", p.Currency, outside, outside))
		}
		return nil, nil
	}
	most, err := pricing.ParseMoney(said)
	if err != nil {
		return nil, httpapi.BadField("/spend", said, err.Error())
	}
	if most.Cmp(outside.Rounded()) < 0 {
		return nil, httpapi.BadField("/spend", said, fmt.Sprintf("is less than the %s %s that the plan spends on servers, farms and seats", p.Currency, outside))
	}
	return &said, nil
}

// gathered makes one booking of all that a plan books of a shot at one farm: a farm
// takes it as one job, and divides it over its nodes by itself.
func gathered(all []planning.Booking) []planning.Booking {
	var out []planning.Booking
	for _, x := range all {
		at := slices.IndexFunc(out, func(o planning.Booking) bool { return x.Farm != "" && o.Farm == x.Farm && o.Shot == x.Shot })
		if at < 0 {
			out = append(out, x)
			continue
		}
		out[at].Frames += x.Frames
		out[at].Nodes = max(out[at].Nodes, x.Nodes)
		out[at].Start, out[at].End = min(out[at].Start, x.Start), max(out[at].End, x.End)
	}
	return out
}

// farmJob is what is to be handed to a farm for a booking, early enough for its frames
// to begin when they are booked.
func (p planned) farmJob(run, plan uuid.UUID, x planning.Booking) farms.Job {
	out := farms.Job{ID: uuid.New(), RunID: run, OrderID: uuid.NewSHA1(run, plan[:]), Shot: x.Shot, Farm: x.Farm, Crew: p.FarmCrews[x.Shot+" "+x.Farm], Frames: x.Frames, State: states.JobPlanned, FromAt: p.At(x.Start), Findings: []string{}}
	for _, f := range p.Problem.Farms {
		if f.ID == x.Farm {
			out.Source = f.Source
			out.FromAt = p.At(max(0, x.Start-f.Lead))
		}
	}
	for _, t := range p.Problem.Transfers {
		if t.Shot == x.Shot && t.Source == out.Source {
			out.FromAt = out.FromAt.Add(-t.Upload.Duration())
		}
	}
	return out
}

// hires are the extra seats that the plan hires, from now on.
func (p planned) hires(run uuid.UUID, now time.Time) []licences.HiredSeats {
	var out []licences.HiredSeats
	for _, x := range p.Plan.ExtraSeats {
		days := max(1, p.SeatDays[x.Licence])
		for _, l := range p.Problem.Licences {
			if l.ID == x.Licence {
				price := l.ExtraSeatPrice.Scaled(big.NewRat(1, int64(days)))
				out = append(out, licences.HiredSeats{RunID: run, Pool: x.Licence, FromAt: now, Seats: x.Seats, Price: price.Rat().FloatString(12), Days: days})
			}
		}
	}
	return out
}
