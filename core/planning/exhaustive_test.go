package planning_test

import (
	"fmt"
	"math"
	"math/big"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/core/planning"
	"rotanex.example/core/pricing"
)

// jumble makes a tiny problem in which all comes together that a plan must heed:
// two shots with deadlines and ready times of their own, a night between two
// windows, a gang beside single crews, host memory, two licences, a server with an
// upload and a delivery, and a seat for hire.
func jumble(r *rand.Rand) planning.Problem {
	sec := func(low, high int) planning.Millis { return planning.Millis(low+r.IntN(high-low+1)) * 1000 }
	ram, step := planning.Memory(3+r.IntN(3))*1_000_000, planning.Millis(1+r.IntN(4))*1000
	night := sec(3, 4)
	p := planning.Problem{
		Format: planning.ProblemFormat, Currency: "EUR", Goal: planning.Cheapest,
		Licences: []planning.Licence{
			{ID: "fathom", Seats: r.IntN(2), ExtraSeats: r.IntN(2), ExtraSeatPrice: pricing.MustMoney("0.70")},
			{ID: "umbra", Seats: 1},
		},
		Hosts: []planning.Host{
			{ID: "bellows", RAM: &ram, Windows: [][2]planning.Millis{{0, night}, {night + sec(0, 1), 8000}}, Crews: []planning.Crew{
				{ID: "g0", Devices: []string{"g0"}, BusyPrice: pricing.MustMoney("300")},
				{ID: "g1", Devices: []string{"g1"}, BusyPrice: pricing.MustMoney("420")},
				{ID: "g0+g1", Devices: []string{"g0", "g1"}, BusyPrice: pricing.MustMoney("600")},
			}},
			{ID: "dory", Windows: [][2]planning.Millis{{sec(0, 2), 7000}}, Crews: []planning.Crew{{ID: "c", Devices: []string{"c"}, BusyPrice: pricing.MustMoney("900")}}},
		},
		Offers: []planning.Offer{{
			ID: "tern-solo", Source: "tern", MaxServers: 1, Lead: sec(0, 1), Wrap: sec(0, 1), Price: pricing.MustMoney("1500"), Fee: pricing.MustMoney("0.10"),
			Increment: &step, Minimum: sec(0, 3), Crews: []planning.Crew{{ID: "g0", Devices: []string{"g0"}}},
		}},
	}
	for i, id := range []string{"orrery-010", "orrery-020"} {
		shot := planning.Shot{
			ID: id, Frames: 1 + r.IntN(2), Ready: sec(0, 2), Deadline: sec(5, 8),
			RAM: planning.Memory(1+r.IntN(3)) * 1_000_000, Licence: []string{"", "fathom", "umbra"}[r.IntN(3)],
		}
		p.Shots = append(p.Shots, shot)
		p.Timings = append(p.Timings,
			planning.Timing{Shot: id, Host: "bellows", Crew: "g0", Frame: sec(1, 3)},
			planning.Timing{Shot: id, Host: "bellows", Crew: "g1", Frame: sec(1, 3)},
			planning.Timing{Shot: id, Host: "bellows", Crew: "g0+g1", Frame: sec(1, 2)},
			planning.Timing{Shot: id, Offer: "tern-solo", Crew: "g0", Frame: sec(1, 2)})
		if i == 0 || r.IntN(2) == 0 {
			p.Timings = append(p.Timings, planning.Timing{Shot: id, Host: "dory", Crew: "c", Frame: sec(1, 4)})
		}
		p.Transfers = append(p.Transfers, planning.Transfer{Shot: id, Source: "tern", Upload: sec(0, 1), Delivery: sec(0, 1)})
	}
	return p
}

// bruteForce finds the least cost of a jumble by trying every place and every whole
// second for every frame, and both orders of the uploads. All times are whole
// seconds, so that there is a cheapest plan among these. Infinite: none is in time.
func bruteForce(p planning.Problem) float64 {
	type put struct {
		shot       int
		row        planning.Timing
		start, end int
	}
	shotAt := map[string]int{p.Shots[0].ID: 0, p.Shots[1].ID: 1}
	second := func(m planning.Millis) int { return int(m / 1000) }
	best := math.Inf(1)
	var frames []int
	for s, shot := range p.Shots {
		for range shot.Frames {
			frames = append(frames, s)
		}
	}
	devices := map[string][]string{}
	busy := map[string]float64{}
	for _, h := range p.Hosts {
		for _, c := range h.Crews {
			devices[h.ID+c.ID], busy[h.ID+c.ID] = c.Devices, c.BusyPrice.Float()
		}
	}
	offer := p.Offers[0]
	for order := range 2 {
		// Uploads one after another, in this order, each as early as can be.
		sent, line := [2]int{}, 0
		for k := range 2 {
			s := (k + order) % 2
			if n := second(p.Transfers[s].Upload); n > 0 {
				line = max(line, second(p.Shots[s].Ready)) + n
				sent[s] = line
			}
		}
		var placed []put
		var try func(i int)
		try = func(i int) {
			if i == len(frames) {
				var starts, arrivals [2][]int
				for _, x := range placed {
					starts[x.shot] = append(starts[x.shot], x.start)
					home := x.end
					if x.row.Offer != "" {
						home += second(p.Transfers[x.shot].Delivery)
					}
					arrivals[x.shot] = append(arrivals[x.shot], home)
				}
				if len(p.Shots[1].After) > 0 {
					slices.Sort(starts[1])
					slices.Sort(arrivals[0])
					for i := range starts[1] {
						if starts[1][i] < arrivals[0][i] {
							return
						}
					}
				}
				cost := 0.0
				held := [2]map[string][2]int{{}, {}}
				from, to, used := math.MaxInt, 0, false
				for _, x := range placed {
					unit := x.row.Host + x.row.Offer
					if x.row.Host != "" {
						cost += busy[unit+x.row.Crew] * float64(x.end-x.start) / 3600
					} else {
						from, to, used = min(from, x.start), max(to, x.end), true
					}
					for l := range p.Licences {
						if p.Shots[x.shot].Licence == p.Licences[l].ID {
							h, ok := held[l][unit]
							if !ok {
								h = [2]int{x.start, x.end}
							}
							held[l][unit] = [2]int{min(h[0], x.start), max(h[1], x.end)}
						}
					}
				}
				if used {
					runs := planning.Millis(to-from)*1000 + offer.Lead + offer.Wrap
					cost += offer.Meter().Charge(runs.Duration()).Float()
				}
				for l := range p.Licences {
					most := 0
					for t := range 9 {
						n := 0
						for _, h := range held[l] {
							if h[0] <= t && t < h[1] {
								n++
							}
						}
						most = max(most, n)
					}
					extra := max(0, most-p.Licences[l].Seats)
					if extra > p.Licences[l].ExtraSeats {
						return
					}
					cost += float64(extra) * p.Licences[l].ExtraSeatPrice.Float()
				}
				best = min(best, cost)
				return
			}
			s := frames[i]
			shot := p.Shots[s]
			for _, row := range p.Timings {
				if shotAt[row.Shot] != s {
					continue
				}
				first, last := second(shot.Ready), second(shot.Deadline)
				if row.Offer != "" {
					first, last = max(first, sent[s], second(offer.Lead)), last-second(p.Transfers[s].Delivery)
				}
				for start := first; start+second(row.Frame) <= last; start++ {
					x := put{s, row, start, start + second(row.Frame)}
					fits := row.Host == ""
					for _, h := range p.Hosts {
						for _, w := range h.Windows {
							fits = fits || h.ID == row.Host && second(w[0]) <= x.start && x.end <= second(w[1])
						}
					}
					for t := x.start; t < x.end && fits; t++ {
						memory := shot.RAM
						for _, y := range placed {
							if y.row.Host != row.Host || y.row.Offer != row.Offer || t < y.start || y.end <= t {
								continue
							}
							memory += p.Shots[y.shot].RAM
							fits = fits && row.Offer == ""
							for _, a := range devices[row.Host+row.Crew] {
								for _, b := range devices[y.row.Host+y.row.Crew] {
									fits = fits && a != b
								}
							}
						}
						fits = fits && (row.Host != "bellows" || memory <= *p.Hosts[0].RAM)
					}
					// Frames of a shot are alike: only one order of them is tried.
					if n := len(placed); n > 0 && placed[n-1].shot == s && placed[n-1].start > x.start {
						fits = false
					}
					if fits {
						placed = append(placed, x)
						try(i + 1)
						placed = placed[:len(placed)-1]
					}
				}
			}
		}
		try(0)
	}
	return best
}

func TestJumblesAgainstTryingEverything(t *testing.T) {
	t.Parallel()
	againstTryingEverything(t, jumble, 1)
}

// The same where everything takes a hundred times as long at a hundredth of the price: whole increments count then.
func TestLongJumblesAgainstTryingEverything(t *testing.T) {
	t.Parallel()
	againstTryingEverything(t, jumble, 100)
}

// stretched is a problem in which everything takes so many times as long, and costs the same.
func stretched(p planning.Problem, by int64) planning.Problem {
	times := func(all ...*planning.Millis) {
		for _, m := range all {
			*m *= planning.Millis(by)
		}
	}
	part := big.NewRat(1, by)
	for i := range p.Shots {
		times(&p.Shots[i].Ready, &p.Shots[i].Deadline)
	}
	for i := range p.Hosts {
		for k := range p.Hosts[i].Windows {
			times(&p.Hosts[i].Windows[k][0], &p.Hosts[i].Windows[k][1])
		}
		for k := range p.Hosts[i].Crews {
			c := &p.Hosts[i].Crews[k]
			c.BusyPrice = c.BusyPrice.Scaled(part)
		}
	}
	for i := range p.Offers {
		o := &p.Offers[i]
		times(&o.Lead, &o.Wrap, o.Increment, &o.Minimum)
		o.Price = o.Price.Scaled(part)
	}
	for i := range p.Timings {
		times(&p.Timings[i].Frame)
	}
	for i := range p.Transfers {
		times(&p.Transfers[i].Upload, &p.Transfers[i].Delivery)
	}
	return p
}

// The same where the second shot needs the frames of the first, and there is time for both.
func TestJumblesWithInputsAgainstTryingEverything(t *testing.T) {
	t.Parallel()
	againstTryingEverything(t, func(r *rand.Rand) planning.Problem {
		p := jumble(r)
		p.Shots[1].After = []string{p.Shots[0].ID}
		p.Shots[1].Frames = p.Shots[0].Frames
		p.Shots[1].Deadline = 8000
		return p
	}, 1)
}

func againstTryingEverything(t *testing.T, make func(*rand.Rand) planning.Problem, longer int64) {
	t.Helper()
	optimal, met := 0, 0
	for seed := range uint64(150) {
		p := make(rand.New(rand.NewPCG(seed, 7)))
		best := bruteForce(p)
		p = stretched(p, longer)
		plan, err := planning.Solve(t.Context(), p, planning.Options{})
		require.NoError(t, err, "seed %d", seed)
		require.NoError(t, planning.Check(p, plan), "seed %d", seed)
		if math.IsInf(best, 1) {
			assert.NotEqual(t, planning.Meets, plan.Status, "seed %d", seed)
			continue
		}
		met++
		want := pricing.MustMoney(fmt.Sprintf("%.6f", best)).Rounded()
		require.Equal(t, planning.Meets, plan.Status, "seed %d: it can be done for %s", seed, want)
		assert.LessOrEqual(t, plan.CostBound.Cmp(want), 0, "seed %d: bound %s, but it can be done for %s", seed, plan.CostBound, want)
		assert.GreaterOrEqual(t, plan.Cost.Cmp(want), 0, "seed %d: the long way round missed a plan", seed)
		if plan.Cost.Cmp(want) == 0 {
			optimal++
		}
	}
	t.Logf("%d problems that can be met, %d answered at least cost", met, optimal)
	assert.GreaterOrEqual(t, float64(optimal), 0.97*float64(met))
}

// Problems of very many shots take other ways to their prices: what they give is
// valid too, and the bound no higher than the plan.
func TestManyShots(t *testing.T) {
	t.Parallel()
	r := rand.New(rand.NewPCG(3, 4))
	for _, shots := range []int{25, 130} {
		p := planning.Problem{Format: planning.ProblemFormat, Currency: "EUR", Goal: planning.Cheapest}
		p.Licences = []planning.Licence{{ID: "fathom", Seats: 4}}
		hour := planning.Millis(3_600_000)
		for i := range 12 {
			h := planning.Host{ID: fmt.Sprintf("h%d", i), Windows: [][2]planning.Millis{{0, 12 * hour}, {20 * hour, 32 * hour}}}
			h.Crews = []planning.Crew{{ID: "g0", Devices: []string{"g0"}, BusyPrice: pricing.MustMoney("0.30")}, {ID: "g1", Devices: []string{"g1"}, BusyPrice: pricing.MustMoney("0.20")}}
			p.Hosts = append(p.Hosts, h)
		}
		step := hour
		p.Offers = []planning.Offer{{
			ID: "tern-quad", Source: "tern", MaxServers: 20, Lead: 600_000, Price: pricing.MustMoney("8.20"), Increment: &step,
			Crews: []planning.Crew{{ID: "g0", Devices: []string{"g0"}}, {ID: "g1", Devices: []string{"g1"}}},
		}}
		p.Farms = []planning.Farm{{ID: "ebb", Source: "saltmarsh", Nodes: 12, Lead: 900_000, NodePrice: pricing.MustMoney("1.90")}}
		for i := range shots {
			id := fmt.Sprintf("s%d", i)
			shot := planning.Shot{ID: id, Frames: 60, Deadline: []planning.Millis{12, 26, 32}[i%3] * hour, Ready: planning.Millis(i%2) * hour}
			if i%5 == 0 {
				shot.Licence = "fathom"
			}
			p.Shots = append(p.Shots, shot)
			frame := func() planning.Millis {
				return planning.Millis(12*1.6*24*3_600_000/float64(shots*60)*0.7*(0.5+r.Float64())) + 1
			}
			for _, h := range p.Hosts {
				for _, c := range h.Crews {
					p.Timings = append(p.Timings, planning.Timing{Shot: id, Host: h.ID, Crew: c.ID, Frame: frame()})
				}
			}
			p.Timings = append(p.Timings, planning.Timing{Shot: id, Offer: "tern-quad", Crew: "g0", Frame: frame()},
				planning.Timing{Shot: id, Offer: "tern-quad", Crew: "g1", Frame: frame()}, planning.Timing{Shot: id, Farm: "ebb", Frame: frame()})
			p.Transfers = append(p.Transfers, planning.Transfer{Shot: id, Source: "tern", Upload: 60_000, Delivery: 8_000})
		}
		plan, err := planning.Solve(t.Context(), p, planning.Options{Effort: 0.3})
		require.NoError(t, err)
		require.NoError(t, planning.Check(p, plan))
		assert.Equal(t, planning.Meets, plan.Status)
		assert.LessOrEqual(t, plan.CostBound.Cmp(plan.Cost), 0)
		t.Logf("%d shots: %s, no less than %s", shots, plan.Cost, plan.CostBound)
		assert.Greater(t, plan.CostBound.Float(), 0.6*plan.Cost.Float())
	}
}
