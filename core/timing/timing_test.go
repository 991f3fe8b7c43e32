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

func TestEstimateFor(t *testing.T) {
	at := func(host, crew string, mean float64, models ...string) timing.Trial {
		return timing.Trial{Host: host, Crew: crew, Models: models, Summary: timing.Summary{Mean: mean}}
	}
	trials := []timing.Trial{
		at("bellows", "g0", 99, "Halyard 24"),
		at("bellows", "g0", 60, "Halyard 24"), // the newer one counts
		at("eddy", "g0+cpu", 40, "Topsail 24", "Keel 24"),
		at("capstan", "g0", 130, "Halyard 12"),
		at("capstan", "g3", 140, "Halyard 12"),
	}
	for _, c := range []struct {
		host, crew string
		models     []string
		want       timing.Estimate
	}{
		{"bellows", "g0", []string{"Halyard 24"}, timing.Estimate{Seconds: 60, Basis: timing.Measured, From: "bellows/g0"}},
		{"tern-solo", "g0", []string{"Halyard 24"}, timing.Estimate{Seconds: 60, Basis: timing.Predicted, From: "bellows/g0"}},
		{"capstan", "g1", []string{"Halyard 12"}, timing.Estimate{Seconds: 140, Basis: timing.Predicted, From: "capstan/g3"}},
		{"fluke", "cpu+g0", []string{"Keel 24", "Topsail 24"}, timing.Estimate{Seconds: 40, Basis: timing.Predicted, From: "eddy/g0+cpu"}},
	} {
		got, ok := timing.EstimateFor(c.host, c.crew, c.models, trials)
		require.True(t, ok, c.host)
		assert.Equal(t, c.want, got)
	}
	_, ok := timing.EstimateFor("capstan", "g0+g1", []string{"Halyard 12", "Halyard 12"}, trials)
	assert.False(t, ok, "how crews scale is not known from single devices")
}
