package timing

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// four makes the options of four like GPUs whose frame has the given parts on one.
func four(p Parts) (out []Option) {
	for _, crew := range []string{"g0", "g1", "g2", "g3", "g0+g1", "g2+g3", "g0+g1+g2+g3"} {
		ids := strings.Split(crew, "+")
		n := float64(len(ids))
		out = append(out, Option{Crew: crew, Devices: ids, Parts: Parts{p.Fixed, p.Load * n, p.Work / n}})
	}
	return out
}

var (
	ids   = []string{"g0", "g1", "g2", "g3"}
	alike = func(string) string { return "Halyard 12" }
)

func TestFourCrewsOfOneBeatOneCrewOfFour(t *testing.T) {
	options := four(Parts{Fixed: 5, Load: 5, Work: 30})
	ways := Divide(options, ids, alike, Limits{Renderers: 5, Cores: 16}, 1)
	assert.Equal(t, []string{"g0", "g1", "g2", "g3"}, ways[0].Crews)
	assert.InDelta(t, 4*3600/40.0, ways[0].FramesHour, 1e-9)
	assert.Empty(t, ways[0].Idle)
	// 4; 1,1,2; 2,2; 1,1,1,1 and those that leave some idle: 1; 1,1; 1,1,1; 2; 1,2.
	assert.Len(t, ways, 9, "like devices count once")
}

func TestALargeCrewWinsWhereTheHostHoldsFewRenderers(t *testing.T) {
	options := four(Parts{Fixed: 6, Load: 0.5, Work: 300})
	limits := Limits{Renderers: 1, Cores: 16}
	ways := Divide(options, ids, alike, limits, 1)
	assert.Equal(t, []string{"g0+g1+g2+g3"}, ways[0].Crews)
	assert.Equal(t, "the host's memory holds no further renderer", ways[1].Limited)
}

func TestTooFewCoresMakeManyRenderersSlow(t *testing.T) {
	options := four(Parts{Fixed: 20, Work: 20})
	many := Divide(options, ids, alike, Limits{Renderers: 4, Cores: 4}, 1)
	free := Divide(options, ids, alike, Limits{Renderers: 4, Cores: 64}, 1)
	assert.Less(t, many[0].FramesHour, free[0].FramesHour)
	assert.Equal(t, "too few cores to feed all of them", many[0].Limited)
}

func TestBreakEven(t *testing.T) {
	options := four(Parts{Fixed: 5, Load: 5, Work: 30})
	large, small := options[6:7], options[:3] // the host's memory holds three
	w, ok := BreakEven(large, small, ids, alike, Limits{Renderers: 3, Cores: 16})
	require.True(t, ok)
	a := together(large, ids, alike, Limits{Renderers: 3}, w).FramesHour
	b := together(small, ids, alike, Limits{Renderers: 3}, w).FramesHour
	assert.InEpsilon(t, a, b, 1e-6)
	assert.Greater(t, w, 1.0)
	_, ok = BreakEven(large, options[:4], ids, alike, Limits{Renderers: 4, Cores: 16})
	assert.False(t, ok, "four crews of one are the better at every weight")
}

func TestASweepAsksWhatTellsMost(t *testing.T) {
	gpu := func(n int, model string) (m []Member) {
		for range n {
			m = append(m, Member{Model: model, Link: "16"})
		}
		return m
	}
	all := []Candidate{
		{Place{Host: "bellows", Crew: "g0", Members: gpu(1, "A")}, 50, 0},
		{Place{Host: "bellows", Crew: "g1", Members: gpu(1, "B")}, 80, 0},
		{Place{Host: "eddy", Crew: "g0", Members: gpu(1, "A")}, 40, 0},
		{Place{Host: "eddy", Crew: "g0+g1", Members: gpu(2, "A")}, 25, 0},
		{Place{Host: "capstan", Crew: "four", Members: gpu(4, "B")}, 25, 0},
	}
	timed := map[string]bool{}
	is := func(p Place) bool { return timed[p.Host+"/"+p.Crew] }
	var asked []string
	for _, c := range Next(nil, "gears", all, is, 1.4) {
		asked = append(asked, c.Place.Host+"/"+c.Place.Crew)
		timed[c.Place.Host+"/"+c.Place.Crew] = true
	}
	assert.Equal(t, []string{"eddy/g0", "bellows/g1", "capstan/four"}, asked)
	assert.Empty(t, Next(nil, "gears", all, is, 1.4))
	m, err := Fit([]Observation{
		{Subject: "gears", Place: all[2].Place, Seconds: 100},
		{Subject: "gears", Place: all[1].Place, Seconds: 160},
		{Subject: "gears", Place: all[4].Place, Seconds: 48},
	})
	require.NoError(t, err)
	assert.Empty(t, Next(m, "gears", all, is, 2), "good enough")
	rest := Next(m, "gears", all, is, 1.01)
	require.NotEmpty(t, rest)
	assert.Contains(t, rest[0].Why, "predicted ")
}
