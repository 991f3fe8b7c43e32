package planning_test

import (
	"context"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"rotanex.example/core/planning"
	"rotanex.example/core/planning/planningtest"
	"rotanex.example/core/pricing"
)

var cent = pricing.MustMoney("0.01")

// What must hold between the answers to two problems that differ in one thing. Problems
// of one shot are solved exactly, so these relations hold to the cent.
func TestWhatOneChangeDoesToAPlan(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		p := drawn(t)
		before := planningtest.Solve(t, p)
		if before.Status != planning.Meets {
			return
		}
		for _, change := range changes(t) {
			q := p
			q.Shots, q.Hosts, q.Offers, q.Farms, q.Timings, q.Transfers = slices.Clone(p.Shots), slices.Clone(p.Hosts), slices.Clone(p.Offers), slices.Clone(p.Farms), slices.Clone(p.Timings), slices.Clone(p.Transfers)
			change.do(&q)
			after, err := planning.Solve(context.Background(), q, change.o)
			require.NoError(t, err, change.name)
			require.NoError(t, planning.Check(q, after), change.name)
			require.Equal(t, planning.Meets, after.Status, change.name)
			change.holds(t, before, after)
		}
	})
}

type change struct {
	name  string
	do    func(*planning.Problem)
	holds func(t *rapid.T, before, after planning.Plan)
	o     planning.Options
}

func noDearer(name string) func(t *rapid.T, before, after planning.Plan) {
	return func(t *rapid.T, before, after planning.Plan) {
		assert.LessOrEqual(t, after.Cost.Cmp(before.Cost), 0, "%s: %s, then %s", name, before.Cost, after.Cost)
	}
}

func changes(t *rapid.T) []change {
	later := planning.Millis(rapid.IntRange(1, 40).Draw(t, "later")) * 500
	frame := planning.Millis(rapid.IntRange(3, 60).Draw(t, "frame")) * 500
	return []change{
		{"a later deadline", func(p *planning.Problem) { p.Shots[0].Deadline += later }, noDearer("a later deadline"), planning.Options{}},
		{"one frame less", func(p *planning.Problem) { p.Shots[0].Frames = max(1, p.Shots[0].Frames-1) }, noDearer("one frame less"), planning.Options{}},
		{"one host more", func(p *planning.Problem) {
			p.Hosts = append(p.Hosts, planning.Host{ID: "more", Windows: [][2]planning.Millis{{0, 100_000}}, Crews: []planning.Crew{{ID: "g0", Devices: []string{"g0"}}}})
			p.Timings = append(p.Timings, planning.Timing{Shot: "s", Host: "more", Crew: "g0", Frame: frame})
		}, noDearer("one host more"), planning.Options{}},
		{"prices seven times as high", dearer, func(t *rapid.T, before, after planning.Plan) {
			assert.InDelta(t, 7*before.Cost.Float(), after.Cost.Float(), 0.04)
		}, planning.Options{}},
		{"the fastest instead", func(p *planning.Problem) {
			most := cent.Times(10_000_000)
			p.Goal, p.Budget = planning.Fastest, &most
		}, func(t *rapid.T, before, after planning.Plan) { assert.LessOrEqual(t, after.Finish, before.Finish) }, planning.Options{Effort: 0.3}},
	}
}

func dearer(p *planning.Problem) {
	for i := range p.Hosts {
		crews := slices.Clone(p.Hosts[i].Crews)
		for j := range crews {
			crews[j].BusyPrice = crews[j].BusyPrice.Times(7)
		}
		p.Hosts[i].Crews = crews
	}
	for i := range p.Offers {
		p.Offers[i].Price, p.Offers[i].Fee = p.Offers[i].Price.Times(7), p.Offers[i].Fee.Times(7)
	}
	for i := range p.Farms {
		f := &p.Farms[i]
		f.NodePrice, f.FramePrice, f.MinimumCharge = f.NodePrice.Times(7), f.FramePrice.Times(7), f.MinimumCharge.Times(7)
	}
}
