package timing_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"rotanex.example/core/timing"
)

func TestWhatOpeningASceneTakes(t *testing.T) {
	t.Parallel()
	var o timing.Openings
	assert.Zero(t, o.Of("lamp", "punt", "g0", 10), "nothing was seen")
	o.Add("lamp", "punt", "g0", 0, 4)
	assert.Zero(t, o.Of("lamp", "punt", "g0", 10), "its renderer does not say")
	for _, opens := range []float64{3, 2.8, 9, 3.2} {
		o.Add("lamp", "punt", "g0", opens, 2*opens)
	}
	o.Add("lamp", "sloop", "cpu", 5, 20)
	assert.InDelta(t, 5, o.Of("lamp", "punt", "g0", 10), 1e-9, "half of what a frame takes alone")
	assert.InDelta(t, 3.1, o.Of("lamp", "punt", "g1", 10), 1e-9, "as on the host's other crews")
	assert.InDelta(t, 3.2, o.Of("lamp", "dory", "g0", 10), 1e-9, "as anywhere")
	assert.InDelta(t, 1.9, o.Of("lamp", "dory", "g0", 2), 1e-9, "not more than a frame takes")
	assert.Zero(t, o.Of("storm", "punt", "g0", 10))
	for range 200 {
		o.Add("lamp", "punt", "g0", 1, 4)
	}
	assert.InDelta(t, 2.5, o.Of("lamp", "punt", "g0", 10), 1e-9, "the newest count")
}

func TestAnEstimateSharesOpeningAmongTheFramesOfAStart(t *testing.T) {
	t.Parallel()
	alone := timing.Estimate{Seconds: 3.5, Low: 3.15, High: 3.85, Basis: timing.Measured}
	many := alone.Sharing(3, 400)
	assert.Equal(t, 250, many.InStart)
	assert.InDelta(t, 0.5+3.0/250, many.Seconds, 1e-9)
	assert.InDelta(t, many.Seconds*0.9, many.Low, 1e-9)
	assert.InDelta(t, many.Seconds*1.1, many.High, 1e-9)
	assert.InDelta(t, 3.5, many.Alone().Seconds, 1e-9)
	assert.InDelta(t, alone.Low, many.Alone().Low, 1e-9)
	assert.InDelta(t, 0.6+2.9/250, many.Shares(3.5, 2.9), 1e-9)
	assert.InDelta(t, 0.4+3.0/250, many.Shares(3.4, 0), 1e-9, "as far as it is known")
	assert.InDelta(t, 2.0/250, many.Shares(2, 0), 1e-9)
	assert.InDelta(t, 3.5, alone.Shares(3.5, 2.9), 1e-9)
	assert.Equal(t, 12, alone.Sharing(3, 12).InStart, "no more than there are")
	assert.Equal(t, alone, alone.Sharing(0, 400))
	assert.Equal(t, alone.Seconds, alone.Sharing(0.05, 400).Seconds, "it is next to nothing")
}
