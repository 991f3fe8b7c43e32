package planning_test

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/core/planning"
	"rotanex.example/core/planning/planningtest"
	"rotanex.example/core/pricing"
)

// stair is a shot of three passes on one machine with a card and a processor: beauty on the card,
// occlusion on the processor beside it, and a composite of both on the processor.
func stair(frames int, beauty, occlusion, composite, deadline planning.Millis) planning.Problem {
	price := pricing.MustMoney("0.36")
	return planning.Problem{
		Format: planning.ProblemFormat, Currency: "EUR", Goal: planning.Cheapest,
		Shots: []planning.Shot{
			{ID: "stair-030/composite", Frames: frames, Deadline: deadline, After: []string{"stair-030/beauty", "stair-030/occlusion"}},
			{ID: "stair-030/beauty", Frames: frames, Deadline: deadline},
			{ID: "stair-030/occlusion", Frames: frames, Deadline: deadline},
		},
		Hosts: []planning.Host{{ID: "anvil", Windows: [][2]planning.Millis{{0, 10_000_000}}, Crews: []planning.Crew{
			{ID: "g0", Devices: []string{"g0"}, BusyPrice: price}, {ID: "c", Devices: []string{"c"}, BusyPrice: price},
		}}},
		Timings: []planning.Timing{
			{Shot: "stair-030/beauty", Host: "anvil", Crew: "g0", Frame: beauty},
			{Shot: "stair-030/occlusion", Host: "anvil", Crew: "c", Frame: occlusion},
			{Shot: "stair-030/composite", Host: "anvil", Crew: "c", Frame: composite},
		},
	}
}

func TestPassesRunSideBySideAndTheCompositeFollows(t *testing.T) {
	for name, x := range map[string]struct {
		beauty, occlusion, composite, ends planning.Millis
	}{
		// The composite of all but the last frame is done while the card is at the last beauty.
		"the card is what holds":      {10_000, 3000, 1000, 101_000},
		"the processor is what holds": {2000, 10_000, 1000, 110_000},
		// Ten composites of ten seconds, the first after one beauty and one occlusion.
		"the composite is what holds": {1000, 1000, 10_000, 110_000},
	} {
		p := stair(10, x.beauty, x.occlusion, x.composite, x.ends)
		plan := planningtest.Solve(t, p)
		assert.Equal(t, planning.Meets, plan.Status, name)
		assert.Equal(t, x.ends, plan.Finish, name)
		assert.Equal(t, plan.CostBound, plan.Cost, name)

		for i := range p.Shots {
			p.Shots[i].Deadline -= 2500
		}
		plan = planningtest.Solve(t, p)
		assert.Equal(t, planning.Late, plan.Status, name)
		assert.LessOrEqual(t, plan.Lateness(p), planning.Millis(2500), name)
		assert.Contains(t, planning.Shortages(p, plan)[0].Text, "stair-030/composite", name)
	}
}

func TestCheckSeesAFrameBeforeItsInput(t *testing.T) {
	p := stair(4, 10_000, 3000, 1000, 100_000)
	plan := planningtest.Solve(t, p)
	for i, b := range plan.Bookings {
		if b.Shot == "stair-030/composite" {
			plan.Bookings[i].Start, plan.Bookings[i].End = b.Start-1000, b.End-1000
		}
	}
	assert.ErrorContains(t, planning.Check(p, plan), "rule 14: stair-030/composite: frame")
}

func TestInputsThatMakeNoSense(t *testing.T) {
	for want, change := range map[string]func(*planning.Problem){
		`after "attic": no such shot`:              func(p *planning.Problem) { p.Shots[0].After = []string{"attic"} },
		`that it is after has 9 and 0 are home`:    func(p *planning.Problem) { p.Shots[1].Frames = 9 },
		`goes round in a circle`:                   func(p *planning.Problem) { p.Shots[1].After = []string{p.Shots[0].ID} },
		`after ["stair-030/beauty"] goes round in`: func(p *planning.Problem) { p.Shots[0].After, p.Shots[1].After = nil, []string{p.Shots[1].ID} },
		`names a shot twice`: func(p *planning.Problem) {
			p.Shots[0].After = []string{p.Shots[1].ID, p.Shots[1].ID}
		},
	} {
		p := stair(10, 1000, 1000, 1000, 100_000)
		change(&p)
		_, err := planning.Solve(t.Context(), p, planning.Options{})
		assert.ErrorContains(t, err, want)
	}
}

// layered makes shots of passes for a few hosts of cards and a processor, servers and a farm.
func layered(r *rand.Rand) planning.Problem {
	const minute = planning.Millis(60_000)
	money := func(low, high float64) pricing.Money {
		return pricing.MustMoney(fmt.Sprintf("%.2f", low+(high-low)*r.Float64()))
	}
	hour := 60 * minute
	p := planning.Problem{Format: planning.ProblemFormat, Currency: "EUR", Goal: planning.Cheapest, Licences: []planning.Licence{{ID: "umbra", Seats: 3}}}
	for i := range 1 + r.IntN(3) {
		h := planning.Host{ID: fmt.Sprintf("h%d", i), Windows: [][2]planning.Millis{{0, 4 * hour}, {5 * hour, 12 * hour}}}
		for d := range 1 + r.IntN(2) {
			id := fmt.Sprintf("g%d", d)
			h.Crews = append(h.Crews, planning.Crew{ID: id, Devices: []string{id}, BusyPrice: money(0.05, 0.3)})
		}
		h.Crews = append(h.Crews, planning.Crew{ID: "c", Devices: []string{"c"}, BusyPrice: money(0.05, 0.3)})
		p.Hosts = append(p.Hosts, h)
	}
	p.Offers = []planning.Offer{{
		ID: "tern-solo", Source: "tern", MaxServers: 4, Lead: 10 * minute, Wrap: minute, Price: money(1, 4), Fee: money(0, 1), Increment: &hour,
		Crews: []planning.Crew{{ID: "g0", Devices: []string{"g0"}}, {ID: "c", Devices: []string{"c"}}},
	}}
	p.Farms = []planning.Farm{{ID: "ebb", Source: "saltmarsh", Nodes: 6, Lead: 15 * minute, NodePrice: money(1, 3), MinimumCharge: money(0, 4)}}
	for i := range 1 + r.IntN(3) {
		frames, deadline := 40+r.IntN(160), planning.Millis(2+r.IntN(8))*hour
		name := func(pass string) string { return fmt.Sprintf("s%d/%s", i, pass) }
		passes := []planning.Shot{{ID: name("beauty"), Licence: []string{"", "umbra"}[r.IntN(2)]}, {ID: name("occlusion")}, {ID: name("composite"), After: []string{name("beauty"), name("occlusion")}}}
		if r.IntN(2) == 0 {
			passes = append(passes, planning.Shot{ID: name("grain"), After: []string{name("composite")}})
		}
		for k, s := range passes {
			s.Frames, s.Deadline = frames, deadline
			p.Shots = append(p.Shots, s)
			frame := planning.Millis(float64(deadline) / float64(frames) * (0.1 + 0.9*r.Float64()) / float64(1+2*k))
			row := func(t planning.Timing) {
				t.Shot, t.Frame = s.ID, max(1, planning.Millis(float64(frame)*(0.7+0.6*r.Float64())))
				p.Timings = append(p.Timings, t)
			}
			for _, h := range p.Hosts {
				for _, c := range h.Crews {
					if (c.ID == "c") != (k == 0) { // the beauty on cards, the others on processors
						row(planning.Timing{Host: h.ID, Crew: c.ID})
					}
				}
			}
			row(planning.Timing{Offer: "tern-solo", Crew: map[bool]string{true: "g0", false: "c"}[k == 0]})
			row(planning.Timing{Farm: "ebb"})
			p.Transfers = append(p.Transfers, planning.Transfer{Shot: s.ID, Source: "tern", Upload: minute, Delivery: 8000}, planning.Transfer{Shot: s.ID, Source: "saltmarsh", Upload: 2 * minute, Delivery: 5000})
		}
	}
	return p
}

// What is planned with inputs is valid, proven as far as it goes, and near its bound, which leaves
// the inputs out. Solve holds each plan against Check.
func TestShotsOfManyPasses(t *testing.T) {
	t.Parallel()
	gaps, met := 0.0, 0
	for seed := range uint64(12) {
		p := layered(rand.New(rand.NewPCG(seed, 14)))
		plan, err := planning.Solve(t.Context(), p, planning.Options{Effort: 0.3})
		require.NoError(t, err, "seed %d", seed)
		if plan.Status == planning.Meets {
			met++
			gaps += plan.Cost.Float()/plan.CostBound.Float() - 1
			t.Logf("seed %d: %d shots, cost %s, bound %s, finish %v", seed, len(p.Shots), plan.Cost, plan.CostBound, plan.Finish.Duration())
		} else {
			t.Logf("seed %d: %d shots, %s by %v", seed, len(p.Shots), plan.Status, plan.Lateness(p).Duration())
		}
	}
	assert.Greater(t, met, 6)
	assert.Less(t, gaps/float64(met), 0.05)
}

// Of a run under way some inputs are home: what they are for need not wait for the others.
func TestInputsThatAreHomeAlready(t *testing.T) {
	p := stair(10, 1000, 1000, 10_000, 104_000)
	p.Shots[1].Frames, p.Shots[2].Frames = 4, 4
	p.Shots[0].Home = map[string]int{"stair-030/beauty": 6, "stair-030/occlusion": 6}
	assert.Equal(t, planning.Meets, planningtest.Solve(t, p).Status)

	p.Shots[2].Frames = 5
	_, err := planning.Solve(t.Context(), p, planning.Options{})
	assert.ErrorContains(t, err, `"stair-030/occlusion" that it is after has 5 and 6 are home: want as many`)
}
