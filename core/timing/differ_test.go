package timing

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestRankWaysAreThoseOfTheTables(t *testing.T) {
	ways := rankWays(5, 5)
	assert.InDelta(t, 1/252.0, ways[0], 1e-12)
	assert.InDelta(t, 2/252.0, ways[2], 1e-12)
	sum, below := 0.0, 0.0
	for u, p := range ways {
		sum += p
		if u <= 2 {
			below += p
		}
	}
	assert.InDelta(t, 1, sum, 1e-12)
	assert.InDelta(t, 4/252.0, below, 1e-12, "U of 2 is the critical value at 5 % for five and five")
}

// Where samples begin to be large the normal distribution says what counting says, and it does not take longer the larger they are.
func TestLargeSamplesAreAsSmallOnes(t *testing.T) {
	t.Parallel()
	counted := func(m, n int) (k int) {
		below := 0.0
		for ways := rankWays(m, n); below+ways[k] <= (1-level)/2; k++ {
			below += ways[k]
		}
		return k
	}
	for _, c := range [][2]int{{exactly + 1, 5}, {exactly + 1, 12}, {exactly + 1, exactly + 1}, {60, 50}, {5, 80}, {90, 7}} {
		assert.InDelta(t, counted(c[0], c[1]), leftOut(c[0], c[1]), 2, c)
		assert.Equal(t, leftOut(c[0], c[1]), leftOut(c[1], c[0]))
	}
	assert.Equal(t, counted(exactly, exactly), leftOut(exactly, exactly))
	large := leftOut(20_000, 30_000) // counted out this takes years
	assert.InEpsilon(t, 3e8-1.96*math.Sqrt(6e8*50_001/12), float64(large), 1e-4)
}

func TestDiffer(t *testing.T) {
	frames := []int{10, 50, 90}
	heavy := Differ(Sample{[]float64{100, 300, 200}, frames}, Sample{[]float64{51, 149, 101}, frames})
	assert.True(t, heavy.Shown, "three frames, very unequal, but each twice as fast")
	assert.InDelta(t, 2, heavy.Ratio, 0.03)
	assert.Contains(t, heavy.Method, "paired t interval")

	noise := Differ(Sample{Seconds: []float64{100, 104, 98}}, Sample{Seconds: []float64{101, 97, 103}})
	assert.False(t, noise.Shown)
	assert.Contains(t, noise.Method, "Welch")

	ranks := Differ(Sample{Seconds: []float64{10, 11, 12, 10.5, 11.5}}, Sample{Seconds: []float64{8, 8.2, 9, 8.4, 90}})
	assert.Contains(t, ranks.Method, "Mann-Whitney")
	assert.InDelta(t, 1.28, ranks.Ratio, 0.1, "one outlier does not move it")

	one := Differ(Sample{Seconds: []float64{10}}, Sample{Seconds: []float64{5, 5}})
	assert.False(t, one.Shown)
	assert.Contains(t, one.Method, "no difference can be shown")
}

// Of equal samples a difference is called one no more often than promised.
func TestNoDifferenceIsRarelyCalledOne(t *testing.T) {
	rnd := rand.New(rand.NewPCG(3, 5))
	draw := func(n int) (s Sample) {
		for range n {
			s.Seconds = append(s.Seconds, 50*math.Exp(0.05*rnd.NormFloat64()))
		}
		return s
	}
	for _, n := range []int{2, 4, 7} {
		wrong := 0
		for range 1000 {
			if Differ(draw(n), draw(n)).Shown {
				wrong++
			}
		}
		assert.LessOrEqual(t, wrong, 72, "of 1000 with %d times each", n)
	}
}

func TestTheMedianIsKnownAfterEnoughRepeats(t *testing.T) {
	_, _, ok := MedianInterval([]float64{1, 2, 3, 4})
	assert.False(t, ok)
	low, high, ok := MedianInterval([]float64{5, 1, 2, 4, 3})
	assert.True(t, ok)
	assert.InDelta(t, 1, low, 0)
	assert.InDelta(t, 5, high, 0)
	low, high, _ = MedianInterval([]float64{1, 2, 3, 4, 5, 6, 7, 8, 9, 10})
	assert.InDelta(t, 2, low, 0, "the second smallest of ten")
	assert.InDelta(t, 9, high, 0)
	assert.True(t, Precise(map[int][]float64{1: {10, 10.1, 10}, 40: {90, 91, 90}}, 0.05))
	assert.False(t, Precise(map[int][]float64{1: {10, 12, 9}, 40: {90, 70, 99}}, 0.05))
	assert.False(t, Precise(map[int][]float64{1: {10, 10.1}}, 0.05))
}
