package simulate_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"rotanex.example/core/dispatch"
	"rotanex.example/core/simulate"
)

func failsSometimes(crew, frame int) bool { return (crew+1)*(frame+3)%13 == 0 }

// A run that is stopped now and then goes as it would have gone without.
func TestARunInPiecesIsTheSameRun(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s, takes := crewsOf(t)
		whole, all := run(s, failsSometimes, takes...)
		sim := simulate.New(s)
		sim.Reset()
		c := &chance{takes: takes, fails: failsSometimes, tries: make([]int, len(takes)), taken: map[int]int{}}
		sim.Begin(c)
		step := time.Duration(rapid.IntRange(1, 900).Draw(t, "step")) * time.Second
		for at := six; sim.Until(at); at = at.Add(step) {
			require.LessOrEqual(t, sim.Shots[0].Done+sim.Waiting(0)+len(sim.Rendering()), s.Shots[0].Frames)
		}
		assert.Equal(t, whole.Done, sim.Shots[0].Done)
		assert.Equal(t, whole.Finish, sim.Shots[0].Finish)
		assert.Equal(t, all.taken, c.taken)
	})
}

// Whatever hosts are lost on the way, and whoever is booked for what is left in their place:
// no frame is lost, none is done twice, and what is rendered as the run changes over is taken
// in.
func TestNoFrameIsLostWhenARunIsBookedAnew(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s, takes := crewsOf(t)
		sim := simulate.New(s)
		sim.Reset()
		done := map[int]int{}
		c := &chance{takes: takes, tries: make([]int, len(takes)), taken: map[int]int{}}
		sim.Begin(c)
		at := six
		for range rapid.IntRange(1, 4).Draw(t, "changes") {
			at = at.Add(time.Duration(rapid.IntRange(0, 900).Draw(t, "after")) * time.Second)
			sim.Until(at)
			if host := rapid.IntRange(-len(s.Hosts), len(s.Hosts)-1).Draw(t, "lost"); host >= 0 {
				sim.Lose(host)
			}
			// All that waits is for a host that comes now, and for those that were there.
			waits := sim.Waiting(0)
			hosts := append(s.Hosts[:len(s.Hosts):len(s.Hosts)], simulate.Host{Name: "new " + at.String(), Up: at.Add(time.Minute)})
			next := make([]simulate.Crew, 0, len(hosts))
			for i := range hosts {
				one := booked(i, waits/len(hosts)+1, at.Sub(six), 20*time.Second)
				one.Crew.Host, one.Place = hosts[i].Name, dispatch.Place(hosts[i].Name, "g0")
				next = append(next, one)
				c.takes, c.tries = append(c.takes, 20*time.Second), append(c.tries, 0)
			}
			sim.Book(hosts, next)
			require.Equal(t, len(sim.Crews), len(c.takes))
		}
		sim.Until(at.Add(1000 * time.Hour))
		assert.Equal(t, s.Shots[0].Frames, sim.Shots[0].Done)
		assert.Zero(t, sim.Waiting(0))
		assert.Empty(t, sim.Rendering())
		for frame, n := range c.taken {
			done[frame] = n
		}
		assert.Len(t, done, s.Shots[0].Frames)
	})
}

func TestAServerThatIsNotAskedForAnyMoreNeverComes(t *testing.T) {
	s := setup(6, booked(0, 2, 0, time.Minute), booked(1, 4, 10*time.Minute, time.Minute))
	s.Hosts[1].Up = six.Add(10 * time.Minute)
	sim := simulate.New(s)
	sim.Reset()
	c := &chance{takes: []time.Duration{time.Minute, time.Minute, time.Minute}, tries: make([]int, 3), taken: map[int]int{}}
	sim.Begin(c)
	sim.Until(six.Add(90 * time.Second))
	sim.Book(s.Hosts[:1], []simulate.Crew{booked(0, 4, 90*time.Second, time.Minute)})
	sim.Until(six.Add(time.Hour))
	assert.Equal(t, []int{2, 0, 4}, c.tries)
	assert.Equal(t, simulate.Outcome{Done: 6, Finish: six.Add(6 * time.Minute)}, sim.Shots[0])
}

func TestAFarmGoesOnWithWhatItHasBegun(t *testing.T) {
	farm, own := booked(0, 4, 10*time.Minute, time.Minute), booked(1, 8, 0, time.Minute)
	s := setup(12, farm, own)
	s.Hosts[0].Nodes, s.Hosts[0].Begins, s.Hosts[0].Up = 2, six.Add(time.Minute), six.Add(10*time.Minute)
	sim := simulate.New(s)
	sim.Reset()
	c := &chance{takes: []time.Duration{time.Minute, time.Minute, time.Minute, time.Minute}, tries: make([]int, 4), taken: map[int]int{}}
	sim.Begin(c)
	sim.Until(six.Add(2*time.Minute + 30*time.Second))
	assert.Equal(t, 5, sim.Waiting(0), "two are done, one in hand, four at the farm")
	// Two of those that wait go to another job of the same farm, the rest stays.
	late, rest := booked(0, 2, 20*time.Minute, time.Minute), booked(1, 3, 150*time.Second, time.Minute)
	sim.Book([]simulate.Host{{Name: "host-0", Nodes: 2, Begins: six.Add(3 * time.Minute), Up: six.Add(20 * time.Minute)}, s.Hosts[1]}, []simulate.Crew{late, rest})
	sim.Until(six.Add(time.Hour))
	assert.Equal(t, []int{4, 3, 2, 3}, c.tries)
	assert.Equal(t, six.Add(21*time.Minute), sim.Shots[0].Finish)
	assert.Equal(t, 12, sim.Shots[0].Done)
}
