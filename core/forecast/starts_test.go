package forecast_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"rotanex.example/core/forecast"
	"rotanex.example/core/planning"
)

// sharing is frames of a minute that share opening a scene, which takes so long.
func sharing(opening planning.Millis, inStart int) forecast.Uncertainty {
	u := sure
	u.Starts = map[string]forecast.Start{}
	for _, host := range []string{"h0", "h1", "h2", "h3"} {
		u.Starts["stair-030 host "+host+"/g0"] = forecast.Start{Opening: opening, Frames: inStart}
	}
	return u
}

// A plan has of each frame its part of opening the scene; a crew opens it whole, however few frames
// it renders.
func TestEachCrewOpensItsSceneWhole(t *testing.T) {
	p, plan := loft(t, 40, 4, 3)
	for _, test := range []struct {
		inStart int
		opening time.Duration // of one crew, of ten frames
	}{
		{1, 10 * 12 * time.Second},
		{5, 2 * 12 * time.Second},
		{8, 2 * 12 * time.Second},
		{10, 12 * time.Second},
		{20, 12 * time.Second},
	} {
		f := simulated(t, p, plan, sharing(12_000, test.inStart))
		part := 12.0 / float64(test.inStart)
		assert.InDelta(t, 4*test.opening.Seconds(), f.Shots[0].OpeningS, 0.1, "%d", test.inStart)
		assert.InDelta(t, 40*(60-part)+4*test.opening.Seconds(), f.Shots[0].RenderingS, 0.1, "%d", test.inStart)
		assert.InDelta(t, 10*(60-part)+test.opening.Seconds(), f.Finish.P50, 1, "%d", test.inStart)
		assert.InDelta(t, f.Shots[0].RenderingS/3600*0.60, f.Cost.P50, 0.001, "%d", test.inStart)
	}
	assert.Zero(t, simulated(t, p, plan, sure).Shots[0].OpeningS, "where it is not known nothing is told apart")
}

// A frame that fails ends its start: the next one opens the scene again.
func TestAFailureEndsItsStart(t *testing.T) {
	p, plan := loft(t, 200, 4, 3)
	failing := sharing(12_000, 50)
	failing.Fails = map[string]float64{"h0": 0.04, "h1": 0.04, "h2": 0.04, "h3": 0.04}
	f := simulated(t, p, plan, failing)
	assert.InDelta(t, (4+200*0.04/0.96)*12, f.Shots[0].OpeningS, 8)
}

// Frames drawn together open their scene as often as those drawn one by one.
func TestBatchesOpenScenesAsOftenAsFrames(t *testing.T) {
	p, plan := loft(t, 20_000, 4, 3)
	f := simulated(t, p, plan, sharing(12_000, 100))
	assert.InDelta(t, 200*12, f.Shots[0].OpeningS, 5*12)
}

// Whatever is said of starts, opening is a part of what is rendered.
func TestOpeningIsAPartOfRendering(t *testing.T) {
	p, plan := loft(t, 120, 4, 3)
	rapid.Check(t, func(rt *rapid.T) {
		inStart := rapid.IntRange(-1, 300).Draw(rt, "frames")
		f := simulated(t, p, plan, sharing(planning.Millis(rapid.Int64Range(-1, 1e9).Draw(rt, "opening")), inStart))
		assert.GreaterOrEqual(rt, f.Shots[0].OpeningS, 0.0)
		assert.LessOrEqual(rt, f.Shots[0].OpeningS, f.Shots[0].RenderingS+1e-6)
	})
}
