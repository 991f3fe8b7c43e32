package timing

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestHowAHostDoesOfLate(t *testing.T) {
	same := func(n int, r float64) (out []float64) {
		for range n {
			out = append(out, r)
		}
		return out
	}
	assert.Equal(t, 1.0, Lately(nil))
	assert.Equal(t, 1.0, Lately(same(3, 2)), "three frames prove nothing")
	assert.Equal(t, 1.0, Lately(same(50, 1.03)), "as good as expected")
	assert.InDelta(t, math.Sqrt2, Lately(same(4, 2)), 1e-9, "four prove half of it")
	assert.InDelta(t, 1.38, Lately(same(40, 1.42)), 0.02)
	assert.Less(t, Lately(same(12, 0.7)), 0.8, "faster counts as well")
	assert.Equal(t, 1.0, Lately(append(same(8, 1), 9, 12)), "a few heavy frames are no slow host")
	assert.Equal(t, 1.0, Lately([]float64{0, -1, math.Inf(1), math.NaN(), 2, 2}), "what is no ratio is left out")
}
