package simulate_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/core/planning"
	"rotanex.example/core/planning/planningtest"
	"rotanex.example/core/simulate"
)

// passes is a shot of two passes on a card and a processor and a composite after both, and a
// server that has its pictures home late.
const passes = `{"format":"rotanex-problem-1","currency":"EUR","goal":"cheapest",
	"shots":[{"id":"beauty","frames":10,"deadline_s":110},{"id":"occlusion","frames":10,"deadline_s":110},
		{"id":"composite","frames":10,"deadline_s":110,"after":["beauty","occlusion"]}],
	"hosts":[{"id":"anvil","windows":[[0,1000]],"crews":[{"id":"g0","devices":["g0"],"busy_price_h":"1"},{"id":"c","devices":["c"],"busy_price_h":"1"}]}],
	"timings":[{"shot":"beauty","host":"anvil","crew":"g0","frame_s":10},{"shot":"occlusion","host":"anvil","crew":"c","frame_s":3},{"shot":"composite","host":"anvil","crew":"c","frame_s":1}]}`

// exact lets each frame take what was planned, and notes when each began.
type exact struct {
	planned *simulate.Planned
	began   map[string][]time.Time // by shot and frame
	fails   func(shot string, frame int) bool
}

func (e *exact) Try(crew, frame int, at time.Time) (time.Duration, bool) {
	row := e.planned.Booked[crew].Row
	if e.fails != nil && e.fails(row.Shot, frame) {
		return row.Frame.Duration(), true
	}
	if e.began[row.Shot] == nil {
		e.began[row.Shot] = make([]time.Time, 10)
	}
	e.began[row.Shot][frame] = at
	return row.Frame.Duration(), false
}

func carriedOut(t *testing.T, p planning.Problem, fails func(shot string, frame int) bool) (*simulate.Simulation, *exact) {
	planned, err := simulate.Plan(p, planningtest.Solve(t, p), six)
	require.NoError(t, err)
	sim := simulate.New(planned.Setup)
	e := &exact{planned: planned, began: map[string][]time.Time{}, fails: fails}
	for range 2 { // what was run can be run again
		sim.Reset()
		sim.Run(e)
	}
	return sim, e
}

func TestACompositeWaitsForItsPasses(t *testing.T) {
	t.Parallel()
	p := planningtest.Parse(t, passes)
	sim, e := carriedOut(t, p, nil)
	for i, shot := range sim.Shots {
		assert.Equal(t, 10, shot.Done, p.Shots[i].ID)
	}
	assert.Equal(t, six.Add(101*time.Second), sim.Shots[2].Finish)
	for n := range 10 {
		assert.False(t, e.began["composite"][n].Before(e.began["beauty"][n].Add(10*time.Second)), "frame %d", n)
		assert.False(t, e.began["composite"][n].Before(e.began["occlusion"][n].Add(3*time.Second)), "frame %d", n)
	}

	// What is given up of one pass is left of the composite, and of nothing else.
	sim, _ = carriedOut(t, p, func(shot string, frame int) bool { return shot == "occlusion" && frame == 4 })
	assert.Equal(t, []int{0, 1, 1}, []int{sim.Shots[0].Left, sim.Shots[1].Left, sim.Shots[2].Left})
	assert.Equal(t, []int{10, 9, 9}, []int{sim.Shots[0].Done, sim.Shots[1].Done, sim.Shots[2].Done})
}

// Of a run under way the first inputs are home.
func TestSomeInputsAreHome(t *testing.T) {
	t.Parallel()
	p := planningtest.Parse(t, passes)
	p.Shots[0].Frames, p.Shots[1].Frames = 4, 6
	p.Shots = planning.Linked(p.Shots)
	assert.Equal(t, map[string]int{"beauty": 6, "occlusion": 4}, p.Shots[2].Home)
	sim, _ := carriedOut(t, p, nil)
	assert.Equal(t, []int{4, 6, 10}, []int{sim.Shots[0].Done, sim.Shots[1].Done, sim.Shots[2].Done})
	assert.Equal(t, six.Add(41*time.Second), sim.Shots[2].Finish)
}
