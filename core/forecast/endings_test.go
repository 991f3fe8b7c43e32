package forecast_test

import (
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"rotanex.example/core/forecast"
)

// A run whose runs before ended about the deadline is said to end about it, in the parts in which they did.
func TestWhatIsSaidOfAPartHappensInThatPart(t *testing.T) {
	t.Parallel()
	r := rand.New(rand.NewPCG(1, 1))
	var seen []forecast.Ending
	draw := func() forecast.Ending {
		middle := 1000 + 9000*r.Float64()
		e := forecast.Ending{Finish: forecast.Spread{P10: 0.9 * middle, P50: middle, P90: 1.2 * middle}, Due: middle * (1.3 + r.Float64()), Shot: "orrery-010"}
		e.Ended = middle + (e.Due-middle)*(0.7+0.3*r.Float64()) // most of the time is used
		if r.Float64() < 0.1 {
			e.Ended = e.Due + 60 // one in ten is late
		}
		return e
	}
	for range 1000 {
		seen = append(seen, draw())
		whole := draw()
		whole.Shot = ""
		seen = append(seen, whole)
	}
	endings := forecast.LearnEndings(seen, false)
	inside := map[float64]int{}
	const runs = 2000
	for range runs {
		e := draw()
		f := forecast.Forecast{Shots: []forecast.Shot{{ID: "orrery-010", Finish: e.Finish}}, Finish: e.Finish, Finishes: make([]float64, 41)}
		kept := f.KeptBy(endings, map[string]float64{"orrery-010": e.Due})
		for _, part := range []float64{0.5, 0.8, 0.95} {
			if e.Ended <= kept.Finishes[int(part*40)] {
				inside[part]++
			}
		}
	}
	for part, n := range inside {
		assert.InDelta(t, part, float64(n)/runs, 0.05, "%g", part)
	}
	assert.Equal(t, forecast.LearnEndings(nil, true), forecast.LearnEndings(seen, true), "what was forecast at the start tells nothing of half-way")
}

func TestKeptIsInOrder(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		second := rapid.Float64Range(0, 1e6)
		spread := func() forecast.Spread {
			list := []float64{second.Draw(t, "p10"), second.Draw(t, "p50"), second.Draw(t, "p90")}
			slices.Sort(list)
			s := forecast.Spread{P10: list[0], P50: list[1], P90: list[2]}
			if rapid.Bool().Draw(t, "one in ten never") {
				s.P90 = -1
			}
			if rapid.IntRange(0, 9).Draw(t, "half never") == 0 {
				s.P50, s.P90 = -1, -1
			}
			return s
		}
		f, due := forecast.Forecast{Finish: spread()}, map[string]float64{}
		for range 41 {
			f.Finishes = append(f.Finishes, second.Draw(t, "simulated"))
		}
		slices.Sort(f.Finishes)
		f.Finishes[40] = -1 // one never ends
		for _, id := range []string{"a", "b", "c"}[:rapid.IntRange(1, 3).Draw(t, "shots")] {
			f.Shots = append(f.Shots, forecast.Shot{ID: id, Finish: spread()})
			due[id] = second.Draw(t, "due")
		}
		var seen []forecast.Ending
		for range rapid.IntRange(0, 30).Draw(t, "seen") {
			seen = append(seen, forecast.Ending{Later: rapid.Bool().Draw(t, "later"), Finish: spread(), Due: second.Draw(t, "due"), Ended: second.Draw(t, "ended"), Shot: rapid.SampledFrom([]string{"", "a"}).Draw(t, "shot")})
		}
		kept := f.KeptBy(forecast.LearnEndings(seen, rapid.Bool().Draw(t, "half-way")), due)
		assert.Equal(t, -1.0, kept.Finishes[40])
		if f.Finish.P50 < 0 {
			assert.Equal(t, -1.0, kept.Finish.P50)
			return
		}
		last := 0.0
		for _, d := range due {
			last = max(last, d)
		}
		assert.True(t, slices.IsSorted(kept.Finishes[:40]), "%v", kept.Finishes)
		assert.GreaterOrEqual(t, kept.Finishes[0], 0.0)
		for k, simulated := range f.Finishes[:40] {
			assert.True(t, simulated <= last || kept.Finishes[k] >= simulated, "what is late in simulations is late")
		}
		for _, s := range append(kept.Shots, kept.Finish) {
			assert.True(t, s.P50 < 0 || s.P10 <= s.P50, "%v", s)
			assert.True(t, s.P90 < 0 || s.P50 <= s.P90, "%v", s)
		}
	})
}
