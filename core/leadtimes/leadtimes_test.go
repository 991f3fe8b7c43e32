package leadtimes_test

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"rotanex.example/core/leadtimes"
)

func TestNothingSeenIsWhatWasPromised(t *testing.T) {
	assert.Equal(t, leadtimes.Kept{Typical: 1, Spread: leadtimes.Boot}, leadtimes.Learn(nil, leadtimes.Boot))
	assert.Equal(t, leadtimes.Kept{Typical: 1, Spread: leadtimes.Queue}, leadtimes.Learn([]float64{0, -1, math.Inf(1)}, leadtimes.Queue), "what is no wait is left out")
}

func TestOneLateBootIsNotYetTheRule(t *testing.T) {
	one := leadtimes.Learn([]float64{2}, leadtimes.Boot)
	assert.InDelta(t, math.Cbrt(2), one.Typical, 1e-12, "it counts as one among three")
	assert.Equal(t, 1, one.Seen)
	assert.Greater(t, one.Spread, leadtimes.Boot, "and it is a surprise")
}

// Made waits with a known truth: what is learnt comes to it, and nine in ten of the
// waits that follow lie within 1.645 spreads.
func TestLearntWaitsComeToTheTruth(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	within, all := 0, 0
	for range 300 {
		typical, spread := math.Exp(0.3*r.NormFloat64()), 0.05+0.3*r.Float64()
		draw := func() float64 { return typical * math.Exp(spread*r.NormFloat64()) }
		var seen []float64
		for range 20 {
			seen = append(seen, draw())
		}
		k := leadtimes.Learn(seen, leadtimes.Boot)
		assert.InDelta(t, 0, math.Log(k.Typical/typical), 0.35)
		for range 20 {
			if math.Abs(math.Log(draw()/k.Typical)) < 1.645*k.Spread {
				within++
			}
			all++
		}
	}
	assert.InDelta(t, 0.90, float64(within)/float64(all), 0.05)
}

func TestWhatIsLearntLiesBetweenPromiseAndSight(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		ratio := rapid.Float64Range(0.1, 10).Draw(t, "ratio")
		n := rapid.IntRange(1, 40).Draw(t, "n")
		var seen []float64
		for range n {
			seen = append(seen, ratio)
		}
		k := leadtimes.Learn(seen, leadtimes.Boot)
		low, high := math.Min(1, ratio), math.Max(1, ratio)
		assert.True(t, k.Typical >= low-1e-9 && k.Typical <= high+1e-9, "%v of %v", k.Typical, ratio)
		assert.Positive(t, k.Spread)
		more := leadtimes.Learn(append(seen, ratio), leadtimes.Boot)
		assert.LessOrEqual(t, math.Abs(math.Log(more.Typical/ratio)), math.Abs(math.Log(k.Typical/ratio))+1e-9, "more of the same comes nearer")
	})
}

func TestWhatNeverCameIsCounted(t *testing.T) {
	k := leadtimes.Learn(nil, leadtimes.Boot)
	assert.Zero(t, k.Coming(0, 0).Never)
	assert.InDelta(t, 0.1/20, k.Coming(10, 0).Never, 1e-12, "none in ten is not never")
	assert.InDelta(t, 2.1/20, k.Coming(10, 2).Never, 1e-12)
}
