package planning

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// Crews that share devices do not add up; memory holds so many renderers.
func TestWhatAHostCanEverRender(t *testing.T) {
	ram := Memory(64_000_000)
	h := Host{ID: "eddy", RAM: &ram, Windows: [][2]Millis{{0, 1_000_000}}, Crews: []Crew{
		{ID: "g0", Devices: []string{"g0"}}, {ID: "g1", Devices: []string{"g1"}}, {ID: "g0+g1", Devices: []string{"g0", "g1"}},
	}}
	frames := map[string]Millis{"g0": 10_000, "g1": 10_000, "g0+g1": 6_000}
	// By hand: 100 frames on each device alone; together they would do 166 of the 200.
	assert.Equal(t, 200, hostCapacity(h, Shot{}, frames))
	assert.Equal(t, 166, hostCapacity(h, Shot{RAM: 40_000_000}, frames), "one renderer at a time: the fastest crew's")
	assert.Equal(t, 50, hostCapacity(h, Shot{Ready: 750_000}, frames))
	h.Windows = [][2]Millis{{0, 5_000}}
	assert.Zero(t, hostCapacity(h, Shot{}, frames), "no whole frame fits")
}

// Whatever crews there are and however they are put to work, no more is rendered.
func TestCapacityIsNeverLessThanWhatCanBeDone(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		devices := []string{"a", "b", "c", "d"}[:rapid.IntRange(1, 4).Draw(t, "devices")]
		h := Host{ID: "h", Windows: [][2]Millis{{0, Millis(rapid.IntRange(1, 100_000).Draw(t, "window"))}}}
		frames := map[string]Millis{}
		for mask := 1; mask < 1<<len(devices); mask++ {
			if rapid.Bool().Draw(t, "crew") {
				c := Crew{}
				for i, d := range devices {
					if mask>>i&1 == 1 {
						c.Devices, c.ID = append(c.Devices, d), c.ID+d
					}
				}
				h.Crews = append(h.Crews, c)
				frames[c.ID] = Millis(rapid.IntRange(1, 20_000).Draw(t, "frame"))
			}
		}
		// A schedule: crews in some order, each as soon as its devices are free, for a while.
		free, done := map[string]Millis{}, 0
		for range 12 {
			if len(h.Crews) == 0 {
				break
			}
			c := rapid.SampledFrom(h.Crews).Draw(t, "next")
			start := Millis(0)
			for _, d := range c.Devices {
				start = max(start, free[d])
			}
			n := min((h.Windows[0][1]-start)/frames[c.ID], Millis(rapid.IntRange(0, 50).Draw(t, "frames")))
			for _, d := range c.Devices {
				free[d] = start + n*frames[c.ID]
			}
			done += int(n)
		}
		assert.GreaterOrEqual(t, hostCapacity(h, Shot{}, frames), done)
	})
}
