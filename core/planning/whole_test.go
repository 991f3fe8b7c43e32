package planning

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"rotanex.example/core/pricing"
)

const minute = Millis(60_000)

// What the knapsack finds is what trying every number of frames does.
func TestWholeFramesAgainstTryingEverything(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		items := make([]item, rapid.IntRange(0, 4).Draw(t, "items"))
		for i := range items {
			items[i] = item{int32(i), Millis(rapid.IntRange(1, 9).Draw(t, "frame")), float64(rapid.IntRange(1, 40).Draw(t, "worth")), Millis(rapid.IntRange(1, 30).Draw(t, "limit"))}
		}
		slices.SortFunc(items, func(a, b item) int { return int(a.limit - b.limit) })
		best := 0.0
		var try func(i int, time Millis, worth float64)
		try = func(i int, time Millis, worth float64) {
			if i == len(items) {
				best = max(best, worth)
				return
			}
			for n := Millis(0); n == 0 || time+n*items[i].frame <= items[i].limit; n++ {
				try(i+1, time+n*items[i].frame, worth+float64(n)*items[i].worth)
			}
		}
		try(0, 0, 0)
		k := knapsack{}
		worth, exact := k.fill(items)
		assert.True(t, exact)
		assert.InDelta(t, best, worth, 2*little)
		time, sum := Millis(0), 0.0
		for i, n := range k.counts {
			time, sum = time+Millis(n)*items[i].frame, sum+float64(n)*items[i].worth
			assert.True(t, n == 0 || time <= items[i].limit)
		}
		assert.InDelta(t, best, sum, 2*little)
	})
}

// The best column of a server of several shots is what trying every length and every number of frames finds, and none gains more
// than it is said that none does.
func TestTheBestServerAgainstTryingEverything(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		number := func(name string, low, high int) Millis { return Millis(rapid.IntRange(low, high).Draw(t, name)) }
		step := number("increment", 5, 12) * minute
		o := Offer{
			ID: "tern-solo", Source: "tern", MaxServers: 2, Lead: number("lead", 0, 9) * minute, Wrap: number("wrap", 0, 2) * minute, Price: pricing.MustMoney("6"),
			Fee: pricing.MustMoney("0.50"), Increment: &step, Minimum: number("minimum", 0, 3) * step,
		}
		for i := range number("crews", 1, 2) {
			id := []string{"g0", "g1"}[i]
			o.Crews = append(o.Crews, Crew{ID: id, Devices: []string{id}})
		}
		p := Problem{Format: ProblemFormat, Currency: "EUR", Goal: Cheapest, Offers: []Offer{o}}
		w := duals{}
		for i := range number("shots", 2, 3) {
			s := Shot{ID: []string{"gale-010", "coda-060", "lamp-040"}[i], Frames: 100, Deadline: o.Lead + number("deadline", 10, 70)*minute}
			p.Shots, w.frame = append(p.Shots, s), append(w.frame, float64(number("worth", 0, 90))/100)
			frame := number("frame", 4, 15) * minute
			for _, c := range o.Crews {
				p.Timings = append(p.Timings, Timing{Shot: s.ID, Offer: o.ID, Crew: c.ID, Frame: frame})
			}
		}
		w.atMin, w.paidLo, w.paidHi = []float64{0}, []float64{0}, []float64{0}
		w.count, w.paid = float64(number("for one more", 0, 50))/100, float64(number("for an increment", -10, 10))/100
		w.cuts = []cut{{0, 0, 0}, {0, -1, number("longer than", 1, 6) * step}}
		w.cutLo, w.cutHi = []float64{0, float64(number("for a long one", 0, 30)) / 100}, []float64{-float64(number("against the first shot", 0, 10)) / 100, 0}
		due := make([]Millis, len(p.Shots))
		for i, s := range p.Shots {
			due[i] = s.Deadline
		}
		m := newModel(p, due)
		if len(m.units) == 0 || m.units[0].solo {
			return
		}
		require.True(t, m.units[0].plain)
		best := 0.0
		for runs := o.Lead + o.Wrap + 1; runs < 90*minute+step; runs++ {
			runs = m.units[0].ending(runs)
			cost, paid := m.units[0].charge(runs)
			gain := cost - w.count - w.paid*paid - w.cutLo[1]*w.cuts[1].of(&column{runs: runs})
			for c := range m.units[0].crews {
				gain -= wholeByTrying(m, &w, c, o.Lead, runs-o.Wrap)
			}
			best = min(best, gain)
		}
		k := packer{m: m}
		x, reduced := k.bestColumn(0, &w, 0)
		assert.LessOrEqual(t, reduced, best+1e-6)
		assert.GreaterOrEqual(t, reduced, best-2*nearLength)
		if x != nil {
			assert.InDelta(t, best, (&master{m: m, paidLo: []int{0}}).gain(x, &w), 2*nearLength)
		}
	})
}

// wholeByTrying is the most that a crew is worth from one time to another.
func wholeByTrying(m *model, w *duals, crew int, start, end Millis) (best float64) {
	u := &m.units[0]
	options := slices.Clone(u.crews[crew].options)
	slices.SortFunc(options, func(a, b int32) int { return int(u.options[a].due - u.options[b].due) })
	var try func(i int, time Millis, worth float64)
	try = func(i int, time Millis, worth float64) {
		if best = max(best, worth); i == len(options) {
			return
		}
		o := &u.options[options[i]]
		each := w.frame[o.shot]
		if o.shot == w.cuts[0].shot {
			each += w.cutHi[0]
		}
		for n := Millis(0); n == 0 || start+time+n*o.frame <= min(end, o.due); n++ {
			try(i+1, time+n*o.frame, worth+float64(n)*each)
		}
	}
	try(0, 0, 0)
	return best
}
