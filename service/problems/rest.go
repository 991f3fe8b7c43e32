package problems

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/google/uuid"

	"rotanex.example/core/dispatch"
	"rotanex.example/core/planning"
	"rotanex.example/core/pricing"
	"rotanex.example/core/timing"
	"rotanex.example/service/httpapi"
)

// rest is what of a run is still to be planned: frames that wait, hosts that render
// until a time, and servers that are paid for.
type rest struct {
	priority dispatch.Priority // of the run
	waiting  map[string]int
	busy     map[string]time.Time // see inHand
	servers  []paidServer
	excluded map[string]string // by BasisKey: crews that get no more of a shot, and why
}

type paidServer struct {
	Host, Offer string
	Usable      time.Time
	Until       time.Time
}

// rest reads what is left of a run.
func (p *Problems) rest(ctx context.Context, run uuid.UUID) (*rest, error) {
	out := &rest{}
	state, kind, priority, err := p.runKind(ctx, run)
	if err != nil {
		return nil, httpapi.NotFound(fmt.Sprintf("there is no run %s; rotanex runs list shows them", run))
	}
	out.priority = priority
	if kind != "run" || !state.Open() {
		return nil, httpapi.Conflict(fmt.Sprintf("run %s is %s: there is nothing left of it to plan", run, state))
	}
	if out.waiting, err = p.waitingOf(ctx, run); err != nil {
		return nil, err
	}
	if len(out.waiting) == 0 {
		return nil, httpapi.Conflict(fmt.Sprintf("no frame of run %s waits any more: what is left is being rendered", run))
	}
	leased, err := p.leasedOf(ctx, run)
	if err != nil {
		return nil, err
	}
	now := p.Clock.Now()
	out.busy = inHand(leased, now)
	if out.excluded, err = p.excludedIn(ctx, run); err != nil {
		return nil, err
	}
	out.servers, err = p.paidServers(ctx, run, now)
	return out, err
}

// inHand says until when hosts are busy with frames of the run itself: in the mean of the
// devices that render one. Some are free before and some after that: what is planned from
// then on is as much as can be done, and each crew begins with it as soon as it is free. A
// frame that takes longer than was expected is taken to need another quarter of that.
func inHand(all []leased, now time.Time) map[string]time.Time {
	seconds, devices := map[string]float64{}, map[string]int{}
	for _, f := range all {
		left := f.LeasedAt.Add(time.Duration(f.FrameS * float64(time.Second))).Sub(now).Seconds()
		if left < 0 {
			left = f.FrameS / 4
		}
		seconds[f.Host] += left * float64(f.Devices)
		devices[f.Host] += f.Devices
	}
	out := map[string]time.Time{}
	for host, n := range devices {
		out[host] = now.Add(time.Duration(seconds[host] / float64(max(1, n)) * float64(time.Second)))
	}
	return out
}

// addPaidServers adds the run's servers that are up as hosts that cost nothing more,
// until the time that is paid for ends.
func (b *builder) addPaidServers() {
	for _, v := range b.rest.servers {
		var offer *planning.Offer
		for i := range b.problem.Offers {
			if b.problem.Offers[i].ID == v.Offer {
				offer = &b.problem.Offers[i]
			}
		}
		if offer == nil {
			continue // it can render none of what is left
		}
		from := b.millis(v.Usable) + offer.Lead
		if until, ok := b.rest.busy[v.Host]; ok {
			b.notes.InHand[v.Host] = b.millis(until)
			from = max(from, b.millis(until))
		}
		host := planning.Host{ID: v.Host, RAM: offer.RAM, Windows: [][2]planning.Millis{{max(0, from), b.millis(v.Until) - offer.Wrap}}}
		if host.Windows[0][1] <= host.Windows[0][0] {
			continue
		}
		for _, c := range offer.Crews {
			c.BusyPrice = pricing.Money{}
			host.Crews = append(host.Crews, c)
		}
		b.problem.Hosts = append(b.problem.Hosts, host)
		b.notes.Sources[v.Host] = offer.Source
		for _, t := range b.problem.Timings {
			if t.Offer == v.Offer {
				b.problem.Timings = append(b.problem.Timings, planning.Timing{Shot: t.Shot, Host: v.Host, Crew: t.Crew, Frame: t.Frame})
				b.notes.Basis[BasisKey(t.Shot, v.Host, t.Crew)] = b.notes.Basis[BasisKey(t.Shot, v.Offer, t.Crew)]
			}
		}
		// Its place among the offer's servers is taken.
		offer.MaxServers = max(0, offer.MaxServers-1)
	}
}

// shots are those of the shots asked for of which a frame waits; where none are asked for,
// all of the run.
func (r *rest) shots(ask Ask) []string {
	var out []string
	if len(ask.Shots) == 0 {
		return slices.Sorted(maps.Keys(r.waiting))
	}
	for _, s := range ask.Shots {
		if r.waiting[s] > 0 {
			out = append(out, s)
		}
	}
	return out
}

// lately is how far back the frames lie by which a crew is taken to be slower or faster than
// expected of it, in the plan of a run's rest.
const lately = time.Hour

// asOfLate takes crews as slow, or as fast, as they were with the run's last frames. Crews
// of one host differ: its CPU may be slowed by what feeds its devices, and they not by it.
func (b *builder) asOfLate(recent []recentFrame) {
	type row struct{ shot, host, crew string }
	expected, ratios := map[row]float64{}, map[string][]float64{}
	for _, t := range b.problem.Timings {
		expected[row{t.Shot, t.Host, t.Crew}] = t.Frame.Duration().Seconds()
	}
	for _, f := range recent {
		if e := expected[row{f.Shot, f.Host, f.Crew}]; e > 0 {
			place := dispatch.Place(f.Host, f.Crew)
			ratios[place] = append(ratios[place], f.Seconds/e)
		}
	}
	for place, seen := range ratios {
		if factor := timing.Lately(seen); factor != 1 {
			b.notes.Lately[place] = factor
		}
	}
	for i, t := range b.problem.Timings {
		if factor, off := b.notes.Lately[dispatch.Place(t.Host, t.Crew)]; off {
			b.problem.Timings[i].Frame = max(1, planning.Millis(float64(t.Frame)*factor+0.5))
		}
	}
}
