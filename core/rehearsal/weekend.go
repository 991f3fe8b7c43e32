// Package rehearsal measures the promise that a plan makes. It draws made-up weekends whose
// truth the planner does not know, plays each by the rules that real runs go by (dispatch,
// forecast, replan, planning) without a clock or a database, and compares what came of it
// with the plan of one who knew everything beforehand.
//
//	w := rehearsal.Draw(seed)
//	knowing, _ := w.Knowing(ctx)
//	played, _ := w.Play(ctx, plan, replan.Auto)
//	fmt.Println(played.InTime, played.Cost, knowing.Cost)
//
// What is drawn, and from what, stands in Draw and what it calls. None of it is taken from
// the planner's or the forecast's own assumptions, but for how single frames of a shot
// differ.
package rehearsal

import (
	"fmt"
	"math"
	"math/rand/v2"
	"time"

	"rotanex.example/core/desks"
	"rotanex.example/core/disruptions"
	"rotanex.example/core/forecast"
	"rotanex.example/core/planning"
	"rotanex.example/core/pricing"
)

// Weekend is a run to be planned, and what will be true of it.
type Weekend struct {
	Seed        uint64
	Problem     planning.Problem     // as it is known beforehand
	Uncertainty forecast.Uncertainty // how well

	truth truth
	desks map[string]desk
	// urgent is a shot that comes at night, not known before; nil: none does.
	urgent *urgent
}

// truth is what turns out.
type truth struct {
	frame map[planning.Timing]float64 // by row: over what is believed of it
	heavy map[string]float64          // by shot: of each frame in its second half, over the first
	fails map[string]float64          // by host, offer or farm: of a try
	used  []used
	lost  map[string]time.Duration // hosts, and when after the start
	boot  map[string]float64       // by offer: the typical boot over its lead
	never float64                  // of a server, not to come
	queue map[string]float64       // by farm: over its lead
}

// used is somebody at a host: what renders there takes so many times as long.
type used struct {
	host     string
	from, to time.Duration // after the start
	times    float64
}

// urgent is a shot with its timings on owned hosts.
type urgent struct {
	shot    planning.Shot // due so long after it comes
	comes   time.Duration
	has     time.Duration // as much as it would take all hosts of one's own
	timings []planning.Timing
}

var friday = time.Date(2031, 3, 7, 18, 0, 0, 0, time.UTC)

// drawing draws one weekend.
type drawing struct {
	*rand.Rand
	w    Weekend
	rate map[string]float64 // by place/crew: frames of an ordinary scene, over the slowest's
}

// Draw draws a weekend. The same seed gives the same.
func Draw(seed uint64) Weekend {
	d := &drawing{Rand: rand.New(rand.NewPCG(seed, 7)), rate: map[string]float64{}}
	d.w = Weekend{
		Seed:        seed,
		Problem:     planning.Problem{Format: planning.ProblemFormat, Start: friday, Currency: "EUR", Goal: planning.Cheapest},
		Uncertainty: forecast.Uncertainty{Typical: map[string]float64{}, Common: forecast.DefaultCommon},
		desks:       map[string]desk{},
		truth: truth{
			frame: map[planning.Timing]float64{}, heavy: map[string]float64{}, fails: map[string]float64{}, lost: map[string]time.Duration{},
			boot: map[string]float64{}, queue: map[string]float64{}, never: 0.03,
		},
	}
	d.hosts()
	d.outside()
	d.shots()
	d.happenings()
	return d.w
}

// weeksBefore is of how many earlier weekends it is known how they went.
const weeksBefore = 20

// Remembers lets the planner know what upset weekends like this one before: how often, not what
// is to happen now.
func (w *Weekend) Remembers() {
	var seen disruptions.Seen
	var weekends []Weekend
	for i := range uint64(weeksBefore) {
		b := Draw(w.Seed + 1_000_000*(i+1))
		weekends = append(weekends, b)
		lasted := b.Problem.Shots[0].Deadline.Duration()
		seen.HostTime += time.Duration(len(b.Problem.Hosts)) * lasted
		seen.Lost += len(b.truth.lost)
		seen.Shots += len(b.Problem.Shots)
		seen.RunTime += lasted
		if b.urgent != nil {
			seen.Urgent = append(seen.Urgent, b.urgent.has)
		}
		for _, times := range b.truth.heavy {
			seen.Heavier = append(seen.Heavier, times)
		}
		for _, u := range b.truth.used {
			seen.Slowed = append(seen.Slowed, disruptions.Slowdown{Lasted: min(u.to, lasted) - u.from, Times: u.times})
		}
	}
	w.Uncertainty.Disruptions = disruptions.Learn(seen)
	w.Uncertainty.Desks = map[string]desks.Habits{}
	for _, id := range w.deskNames() {
		w.Uncertainty.Desks[id] = habits(weekends)
	}
}

func (d *drawing) between(low, high float64) float64 { return low + (high-low)*d.Float64() }

func (d *drawing) chance(p float64) bool { return d.Float64() < p }

// lognormal draws around a middle, by a standard deviation of the logarithm.
func lognormal(r *rand.Rand, middle, spread float64) float64 {
	return middle * math.Exp(spread*r.NormFloat64())
}

func cents(v float64) pricing.Money { return pricing.MustMoney(fmt.Sprintf("%.2f", v)) }

func millis(hours float64) planning.Millis { return planning.Millis(hours * 3_600_000) }

// crews are those of a machine with so many GPUs: its CPU, each GPU, and all together.
func (d *drawing) crews(place string, gpus int, cpu, gpu, power float64) (out []planning.Crew) {
	add := func(id string, devices []string, rate, load float64) {
		d.rate[place+"/"+id] = rate
		out = append(out, planning.Crew{ID: id, Devices: devices, BusyPrice: cents(power * load)})
	}
	add("cpu", []string{"cpu"}, cpu, 0.4)
	var all []string
	for i := range gpus {
		id := fmt.Sprintf("g%d", i)
		all = append(all, id)
		add(id, []string{id}, gpu, 0.7)
	}
	if gpus == 2 {
		add("g0+g1", all, gpu*d.between(1.5, 1.95), 1.4)
	}
	return out
}

// hosts are three to six of one's own, unlike each other, some of them with closing hours.
func (d *drawing) hosts() {
	for i := range 3 + d.IntN(4) {
		id := fmt.Sprintf("host-%d", i+1)
		open := [][2]planning.Millis{{0, millis(72)}}
		if d.chance(0.25) { // a desk: nights and the weekend, but for Saturday's forenoon
			open = [][2]planning.Millis{{millis(2), millis(14)}, {millis(19), millis(72)}}
			d.w.desks[id] = desk{}
		}
		d.w.Problem.Hosts = append(d.w.Problem.Hosts, planning.Host{
			ID: id, Windows: open, Crews: d.crews(id, d.IntN(3), d.between(1, 2), lognormal(d.Rand, 5, 0.5), d.between(0.08, 0.3)),
		})
	}
}

// outside are one or two offers of servers and, mostly, a farm.
func (d *drawing) outside() {
	p := &d.w.Problem
	for i := range 1 + d.IntN(2) {
		id := fmt.Sprintf("offer-%d", i+1)
		step := planning.Millis(1000)
		if d.chance(0.5) {
			step = millis(1)
		}
		p.Offers = append(p.Offers, planning.Offer{
			ID: id, Source: id, MaxServers: 3 + d.IntN(4), Lead: planning.Millis(60_000 * (4 + d.IntN(9))), Wrap: 60_000,
			Price: cents(d.between(0.8, 2.6)), Increment: &step, Crews: d.crews(id, 1+d.IntN(2), 1.5, lognormal(d.Rand, 6, 0.3), 0),
		})
		d.w.truth.boot[id] = lognormal(d.Rand, 1.1, 0.25)
	}
	if d.chance(0.7) {
		p.Farms = append(p.Farms, planning.Farm{ID: "farm", Source: "farm", Nodes: 8 + d.IntN(13), Lead: planning.Millis(60_000 * (10 + d.IntN(21))), NodePrice: cents(d.between(0.5, 1.3))})
		d.rate["farm/"] = 1.4
		d.w.truth.queue["farm"] = lognormal(d.Rand, 1.3, 0.5) // queues are longer than told
	}
}

// row adds what is believed of a timing, how well, and what is true of it. Three in ten were
// timed; the others are predicted, and a little worse than it is said of them.
func (d *drawing) row(t planning.Timing, believed float64) planning.Timing {
	off, worse := 0.03, 1.0
	if d.chance(0.7) {
		off, worse = d.between(0.06, 0.2), 1.25
	}
	d.w.truth.frame[t] = lognormal(d.Rand, 1, off*worse)
	d.w.Uncertainty.Typical[forecast.TimingKey(t)] = off
	t.Frame = max(1000, planning.Millis(believed*1000))
	return t
}

// timings are those of a shot on all that may render it.
func (d *drawing) timings(shot string, ordinary float64, ownedOnly bool) (out []planning.Timing) {
	common := lognormal(d.Rand, 1, 0.05) // no crew's own: nobody knows it beforehand
	add := func(t planning.Timing, place string) {
		// What a scene makes of a device is not what another makes of it.
		out = append(out, d.row(t, ordinary/d.rate[place+"/"+t.Crew]*lognormal(d.Rand, 1, 0.2)))
		t.Frame = 0
		d.w.truth.frame[t] *= common
	}
	for _, h := range d.w.Problem.Hosts {
		for _, c := range h.Crews {
			add(planning.Timing{Shot: shot, Host: h.ID, Crew: c.ID}, h.ID)
		}
	}
	if ownedOnly {
		return out
	}
	for _, o := range d.w.Problem.Offers {
		for _, c := range o.Crews {
			add(planning.Timing{Shot: shot, Offer: o.ID, Crew: c.ID}, o.ID)
		}
	}
	for _, f := range d.w.Problem.Farms {
		add(planning.Timing{Shot: shot, Farm: f.ID}, f.ID)
	}
	return out
}

// shots are two to four, due in fourteen to sixty hours, when one's own hosts would take 0.6 to 1.6
// times as long as there is: some weekends have time to spare, others have to rent.
func (d *drawing) shots() {
	p, own, work := &d.w.Problem, d.owns(), 0.0
	weights := make([]float64, 2+d.IntN(3)) // what a frame of each takes, over the others'
	for i := range weights {
		weights[i] = lognormal(d.Rand, 1, 0.5)
		s := planning.Shot{ID: fmt.Sprintf("shot-%d", i+1), Frames: 80 + d.IntN(241)}
		work += float64(s.Frames) * weights[i]
		p.Shots = append(p.Shots, s)
	}
	lasts := d.between(14, 60)
	slowest := lasts * 3600 * own * d.between(0.6, 1.6) / work // seconds of a frame of weight 1
	for i, s := range p.Shots {
		p.Timings = append(p.Timings, d.timings(s.ID, weights[i]*slowest, false)...)
		p.Shots[i].Deadline = millis(lasts)
		if i > 0 && d.chance(0.3) {
			p.Shots[i].Deadline = millis(lasts * d.between(1, 1.2))
		}
	}
	if d.chance(0.2) {
		ordinary := slowest * lognormal(d.Rand, 1, 0.5)
		x := &urgent{comes: planning.Millis(lasts * d.between(0.1, 0.7) * 3_600_000).Duration()}
		x.shot = planning.Shot{ID: "urgent", Frames: 10 + d.IntN(40), Priority: 1}
		takes := float64(x.shot.Frames) * ordinary / own / 3600
		x.shot.Deadline, x.has = millis(takes*d.between(1.8, 3)), millis(takes).Duration()
		x.timings = d.timings(x.shot.ID, ordinary, true)
		d.w.urgent = x
	}
}

// owns is how many frames one's own hosts render while the slowest crew renders one.
func (d *drawing) owns() (rate float64) {
	for _, h := range d.w.Problem.Hosts {
		for _, c := range h.Crews {
			if len(c.Devices) == 1 {
				rate += d.rate[h.ID+"/"+c.ID]
			}
		}
	}
	return rate
}

// happenings are what nobody knows beforehand: somebody works at a host, one dies, a shot gets
// heavier, frames fail in one place.
func (d *drawing) happenings() {
	p, due := d.w.Problem, d.w.Problem.Shots[0].Deadline.Duration().Hours()
	d.takenBack(d.w.Problem.Shots[0].Deadline.Duration())
	for _, h := range p.Hosts {
		d.w.truth.fails[h.ID] = 0.005
		if _, is := d.w.desks[h.ID]; !is && d.chance(0.12) {
			from := d.between(0, due*0.7)
			d.w.truth.used = append(d.w.truth.used, used{h.ID, millis(from).Duration(), millis(from + d.between(0.5, 4)).Duration(), d.between(1.5, 4)})
		}
	}
	if d.chance(0.12) {
		d.w.truth.lost[p.Hosts[d.IntN(len(p.Hosts))].ID] = millis(d.between(0.05, 0.9) * due).Duration()
	}
	if d.chance(0.1) {
		d.w.truth.fails[p.Hosts[d.IntN(len(p.Hosts))].ID] = 0.1
	}
	for _, s := range p.Shots {
		if d.chance(0.08) {
			d.w.truth.heavy[s.ID] = 2
		}
	}
}
