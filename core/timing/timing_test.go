package timing_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/core/timing"
)

func TestSummarise(t *testing.T) {
	s, ok := timing.Summarise([]float64{12, 10, 11, 19})
	require.True(t, ok)
	assert.Equal(t, 4, s.Frames)
	assert.InDelta(t, 11.5, s.Median, 1e-12)
	assert.InDelta(t, 13, s.Mean, 1e-12)
	assert.InDelta(t, 10, s.Low, 0)
	assert.InDelta(t, 19, s.High, 0)
	assert.InDelta(t, 0.3140, s.Spread, 1e-4)
	_, ok = timing.Summarise(nil)
	assert.False(t, ok)
	one, _ := timing.Summarise([]float64{7})
	assert.Zero(t, one.Spread)
}
