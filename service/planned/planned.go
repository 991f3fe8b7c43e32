// Package planned turns a plan into what a run books by it: crews' bookings, servers,
// farms' jobs, hired seats. It stores nothing: runs do, as they begin or change over.
package planned

import (
	"fmt"
	"math/big"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"rotanex.example/core/planning"
	"rotanex.example/core/pricing"
	"rotanex.example/service/accounts"
	"rotanex.example/service/bookings"
	"rotanex.example/service/farms"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/licences"
	"rotanex.example/service/rental"
	"rotanex.example/service/states"
)

// Plan is a plan that a run carries out, or is to.
type Plan struct{ accounts.Carried }

// Booked is all that a run books by a plan.
type Booked struct {
	Bookings []bookings.Booking
	Servers  []rental.Server
	Jobs     []farms.Job
	Hired    []licences.HiredSeats
}

// All is what a run that begins books by the plan, reserves with it: every crew that may
// render a shot and is not needed.
func (p Plan) All(run, plan uuid.UUID, now time.Time) Booked {
	out := p.books(run, plan, 0, now)
	booked := map[planning.Booking]bool{}
	for _, x := range p.Plan.Bookings {
		booked[planning.Booking{Shot: x.Shot, Host: x.Host, Crew: x.Crew}] = true
	}
	for _, t := range p.Problem.Timings {
		if reserve := (planning.Booking{Shot: t.Shot, Host: t.Host, Crew: t.Crew}); t.Host != "" && !booked[reserve] {
			out.Bookings = append(out.Bookings, p.reserves(run, reserve)...)
		}
	}
	return out
}

// Rest is what the plan of a run's rest books, which is the run's n-th change of its plan,
// from 1. Those who were reserves stay so. A crew that waits for a frame of the run itself to
// be done begins as soon as it is: its devices are busy until then.
func (p Plan) Rest(run, plan uuid.UUID, n int, now time.Time) Booked {
	out := p.books(run, plan, n, now)
	for i := range out.Bookings {
		b := &out.Bookings[i]
		if until, busy := p.InHand[b.Host]; busy && !b.StartAt.After(p.At(until)) {
			b.StartAt = p.Problem.Start
		}
	}
	return out
}

func (p Plan) books(run, plan uuid.UUID, n int, now time.Time) Booked {
	out := Booked{Hired: p.hires(run, now)}
	hostOf := map[string]string{}
	for _, v := range p.Plan.Servers {
		// The run's id is in the name, as two runs may have a server of the same plan id;
		// and so is the change.
		id, host := v.ID, strings.ReplaceAll(v.ID, "#", "-")+"."+run.String()[:8]
		if n > 0 {
			id, host = accounts.LaterServer(v.ID, n), fmt.Sprintf("%s-%d", host, n+1)
		}
		hostOf[v.ID] = host
		out.Servers = append(out.Servers, rental.Server{
			RunID: run, ID: id, Offer: v.Offer, Host: host, State: states.ServerPlanned, FromAt: p.At(v.From), ToAt: p.At(v.To), PaidAt: p.paidUntil(v),
		})
	}
	for _, x := range gathered(p.Plan.Bookings) {
		out.Bookings = append(out.Bookings, p.booking(run, x, hostOf))
		if x.Farm != "" {
			out.Jobs = append(out.Jobs, p.farmJob(run, plan, x))
		}
	}
	return out
}

// reserves makes a booking of no frames for each stretch in which an owned host is
// open until the plan's last deadline.
func (p Plan) reserves(run uuid.UUID, x planning.Booking) []bookings.Booking {
	var out []bookings.Booking
	last := p.Plan.Finish
	for _, s := range p.Problem.Shots {
		last = max(last, s.Deadline)
	}
	for _, h := range p.Problem.Hosts {
		for _, w := range h.Hours() {
			if x.Start, x.End = max(0, w[0]), min(w[1], last); h.ID == x.Host && x.Start < x.End {
				out = append(out, p.booking(run, x, nil))
			}
		}
	}
	return out
}

// paidUntil is when the next paid increment of a server would begin.
func (p Plan) paidUntil(v planning.Server) time.Time {
	meter := p.Meter(v.Offer)
	return p.At(v.From).Add(meter.Billed((v.To - v.From).Duration()))
}

// booking turns a booking of the plan into one of the run.
func (p Plan) booking(run uuid.UUID, x planning.Booking, hostOf map[string]string) bookings.Booking {
	host, kind, place, source := x.Host, "host", x.Host, ""
	crews := []planning.Crew(nil)
	var closeAt *time.Time
	for _, h := range p.Problem.Hosts {
		if h.ID != x.Host {
			continue
		}
		crews = h.Crews
		for _, w := range h.Hours() {
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
			crews, source = offer.Crews, offer.Source
			closes := p.paidUntil(v).Add(-offer.Wrap.Duration())
			closeAt = &closes
		}
	}
	out := bookings.Booking{RunID: run, Shot: x.Shot, Host: host, Crew: x.Crew, Frames: x.Frames, StartAt: p.At(x.Start), EndAt: p.At(x.End), CloseAt: closeAt, Nodes: 1, Devices: []string{}}
	for _, f := range p.Problem.Farms {
		if f.ID == x.Farm {
			source = f.Source
		}
	}
	out.DueAt = p.due(x.Shot, source)
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
			basis := p.Basis[accounts.BasisKey(x.Shot, at, x.Crew)]
			out.OpeningS, out.InStart = basis.Opening, basis.InStart
		}
	}
	return out
}

// due is when the last frame of a shot is to be rendered at a source, for it to be home in time.
func (p Plan) due(shot, source string) *time.Time {
	for _, s := range p.Problem.Shots {
		if s.ID != shot {
			continue
		}
		by, narrowed := p.Deadlines[shot]
		if !narrowed {
			by = s.Deadline
		}
		at := p.At(by - p.Problem.Delivery(shot, source))
		return &at
	}
	return nil
}

// Spend reads what may be spent outside. A plan that rents servers, hires seats or
// uses farms is begun only if somebody said how much that may be.
func (p Plan) Spend(said string) (*string, error) {
	outside := planning.Outside(p.Problem, p.Plan)
	if said == "" {
		if len(p.Plan.Servers) > 0 || len(p.Plan.ExtraSeats) > 0 || slices.ContainsFunc(p.Plan.Bookings, func(b planning.Booking) bool { return b.Farm != "" }) {
			return nil, httpapi.BadField("/spend", "", fmt.Sprintf("the plan spends %s %s on servers, farms and seats: say what may be spent at most, such as %s", p.Currency, outside, planning.AtMost(p.Problem, p.Plan)))
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
func (p Plan) farmJob(run, plan uuid.UUID, x planning.Booking) farms.Job {
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
func (p Plan) hires(run uuid.UUID, now time.Time) []licences.HiredSeats {
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
