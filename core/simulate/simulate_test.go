package simulate_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"rotanex.example/core/dispatch"
	"rotanex.example/core/simulate"
)

var six = time.Date(2031, 3, 7, 18, 0, 0, 0, time.UTC)

// chance lets each crew's frames take their own time, and tries fail as it is told.
type chance struct {
	takes []time.Duration
	fails func(crew, frame int) bool
	tries []int // by crew
	taken map[int]int
}

func (c *chance) Try(crew, frame int, _ time.Time) (time.Duration, bool) {
	c.tries[crew]++
	c.taken[frame]++
	return c.takes[crew], c.fails != nil && c.fails(crew, frame)
}

// booked is a crew on a host of its own, booked for as long as its frames should take.
func booked(host, frames int, start, each time.Duration) simulate.Crew {
	name := fmt.Sprintf("host-%d", host)
	return simulate.Crew{Host: host, Crew: dispatch.Crew{
		ID: int64(host + 1), Host: name, Name: "g0", Place: dispatch.Place(name, "g0"), Shot: "stair-030", Devices: []string{"g0"},
		Frames: frames, Start: six.Add(start), End: six.Add(start + time.Duration(frames)*each), Frame: each,
	}}
}

func setup(frames int, crews ...simulate.Crew) simulate.Setup {
	s := simulate.Setup{Shots: []simulate.Shot{{ID: "stair-030", Frames: frames}}, Crews: crews}
	for _, c := range crews {
		s.Hosts = append(s.Hosts, simulate.Host{Name: c.Crew.Host, Up: six})
	}
	return s
}

func run(s simulate.Setup, fails func(crew, frame int) bool, takes ...time.Duration) (simulate.Outcome, *chance) {
	sim := simulate.New(s)
	sim.Reset()
	c := &chance{takes: takes, fails: fails, tries: make([]int, len(takes)), taken: map[int]int{}}
	sim.Run(c)
	return sim.Shots[0], c
}

func Example() {
	s := simulate.New(setup(6, booked(0, 4, 0, time.Minute), booked(1, 2, 0, 2*time.Minute)))
	s.Reset()
	s.Run(&chance{takes: []time.Duration{time.Minute, 2 * time.Minute}, tries: make([]int, 2), taken: map[int]int{}})
	fmt.Println(s.Shots[0].Done, s.Shots[0].Finish.Sub(six))
	// Output: 6 4m0s
}

// If all goes as planned, each crew does what it was booked for, no more and no less, and
// the run ends as planned.
func TestARunThatGoesAsPlannedIsThePlan(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s, takes := crewsOf(t)
		planned := six
		for _, c := range s.Crews {
			if c.End.After(planned) {
				planned = c.End
			}
		}
		out, c := run(s, nil, takes...)
		assert.Equal(t, planned, out.Finish)
		for i, x := range s.Crews {
			assert.Equal(t, x.Frames, c.tries[i])
		}
	})
}

func crewsOf(t *rapid.T) (s simulate.Setup, takes []time.Duration) {
	var crews []simulate.Crew
	frames := 0
	for i := range rapid.IntRange(1, 5).Draw(t, "crews") {
		n := rapid.IntRange(1, 20).Draw(t, "booked")
		each := time.Duration(rapid.IntRange(5, 90).Draw(t, "frame")) * time.Second
		crews = append(crews, booked(i, n, time.Duration(rapid.IntRange(0, 600).Draw(t, "start"))*time.Second, each))
		takes = append(takes, each)
		frames += n
	}
	return setup(frames, crews...), takes
}

// Whoever is slow or closes, as long as one crew goes on every frame is done, each once,
// and nobody's absence keeps the others waiting for longer than their plan and all the
// work by themselves.
func TestWhoeverClosesAllFramesAreDone(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s, takes := crewsOf(t)
		last, slowest := six, time.Duration(0)
		for i := range s.Crews {
			c := &s.Crews[i]
			if i > 0 && rapid.Bool().Draw(t, "closes") {
				c.Close = six.Add(time.Duration(rapid.IntRange(0, 3600).Draw(t, "closes at")) * time.Second)
			}
			takes[i] *= time.Duration(rapid.IntRange(1, 4).Draw(t, "times slower"))
			slowest = max(slowest, takes[i])
			if c.End.After(last) {
				last = c.End
			}
		}
		out, c := run(s, nil, takes...)
		require.Zero(t, out.Left, "frames were left lying")
		assert.LessOrEqual(t, out.Finish.Sub(last), time.Duration(out.Done+1)*slowest)
		for frame, n := range c.taken {
			assert.Equal(t, 1, n, "frame %d", frame)
		}
	})
}

func TestAFrameThatFailsIsTriedElsewhereAndGivenUpInTheEnd(t *testing.T) {
	s := setup(4, booked(0, 2, 0, time.Minute), booked(1, 2, 0, time.Minute))
	out, c := run(s, func(crew, frame int) bool { return crew == 0 && frame == 0 }, time.Minute, time.Minute)
	assert.Equal(t, simulate.Outcome{Done: 4, Finish: six.Add(3 * time.Minute)}, out)
	assert.Equal(t, 2, c.taken[0])
	out, c = run(s, func(_, frame int) bool { return frame == 0 }, time.Minute, time.Minute)
	assert.Equal(t, 1, out.Left)
	assert.Equal(t, dispatch.DefaultTries, c.taken[0])
}

func TestHostMemoryHoldsSoManyRenderers(t *testing.T) {
	a, b := booked(0, 2, 0, time.Minute), booked(0, 2, 0, time.Minute)
	b.Name, b.Devices, b.ID = "g1", []string{"g1"}, 2
	a.MemoryGB, b.MemoryGB = 20, 20
	s := setup(4, a, b)
	s.Hosts = s.Hosts[:1]
	out, _ := run(s, nil, time.Minute, time.Minute)
	assert.Equal(t, six.Add(2*time.Minute), out.Finish)
	s.Hosts[0].MemoryGB = 32
	out, _ = run(s, nil, time.Minute, time.Minute)
	assert.Equal(t, six.Add(4*time.Minute), out.Finish, "one after another")
}

func TestSeatsAreForThoseWhoWereBooked(t *testing.T) {
	a, b := booked(0, 3, 0, time.Minute), booked(1, 0, 0, time.Minute)
	a.Licence, b.Licence = "fathom", "fathom"
	s := setup(6, a, b)
	s.Pools = []simulate.Pool{{Name: "fathom", Seats: 1}}
	out, c := run(s, nil, time.Minute, time.Minute)
	assert.Equal(t, 6, out.Done)
	assert.Equal(t, six.Add(6*time.Minute), out.Finish, "one at a time")
	assert.GreaterOrEqual(t, c.tries[0], 3)
	s.Pools[0].Seats = 2
	out, _ = run(s, nil, time.Minute, time.Minute)
	assert.Equal(t, six.Add(3*time.Minute), out.Finish)
}

// A server goes on past what is paid where nobody else is left, and only there.
func TestAServerStaysOnWhereNobodyElseIsLeft(t *testing.T) {
	alone := booked(0, 4, 0, time.Minute)
	alone.Close = alone.End
	s := setup(4, alone)
	out, _ := run(s, nil, 2*time.Minute)
	assert.Equal(t, 2, out.Left, "its time is over")
	s.Hosts[0].StaysOn = true
	out, _ = run(s, nil, 2*time.Minute)
	assert.Equal(t, simulate.Outcome{Done: 4, Finish: six.Add(8 * time.Minute)}, out)
	two := setup(4, alone, booked(1, 0, time.Hour, time.Minute))
	two.Hosts[0].StaysOn = true
	out, c := run(two, nil, 2*time.Minute, time.Minute)
	assert.Equal(t, []int{2, 2}, c.tries)
	assert.Equal(t, six.Add(62*time.Minute), out.Finish, "another comes in an hour")
}

func TestAFarmHasItsFramesFromTheStart(t *testing.T) {
	farm, own := booked(0, 4, 10*time.Minute, time.Minute), booked(1, 2, 0, time.Minute)
	s := setup(6, farm, own)
	s.Hosts[0].Nodes, s.Hosts[0].Begins, s.Hosts[0].Up = 2, six, six.Add(10*time.Minute)
	out, c := run(s, nil, time.Minute, time.Minute)
	assert.Equal(t, []int{4, 2}, c.tries, "nobody helps with what a farm holds")
	assert.Equal(t, six.Add(12*time.Minute), out.Finish)
	out, c = run(s, func(crew, frame int) bool { return crew == 0 && frame == 5 }, time.Minute, time.Minute)
	assert.Equal(t, 6, out.Done)
	assert.Equal(t, dispatch.FarmTries+1, c.taken[5], "tried there by itself, then elsewhere")
}

func BenchmarkRun(b *testing.B) {
	var crews []simulate.Crew
	takes := make([]time.Duration, 40)
	for i := range 40 {
		crews = append(crews, booked(i, 500, 0, time.Minute))
		takes[i] = time.Minute
	}
	s := simulate.New(setup(20_000, crews...))
	for b.Loop() {
		s.Reset()
		s.Run(&chance{takes: takes, tries: make([]int, 40), taken: map[int]int{}})
	}
}
