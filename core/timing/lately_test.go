package timing

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// on are so many frames of a shot on a crew, one after another until so long ago, that took so
// many times what was expected of a minute.
func on(shot, host, crew string, n int, ratio float64, until time.Duration) (out []Seen) {
	took := time.Duration(ratio * float64(time.Minute))
	for i := range n {
		out = append(out, Seen{Shot: shot, Host: host, Crew: crew, Ratio: ratio, Took: took, Ago: until + time.Duration(i)*took})
	}
	return out
}

// rarely is the part of the time in which something is the matter with a host: an hour and a half of sixty.
const rarely = 0.025

// crew is by what factor a crew is off that renders a shot alone.
func crew(seen ...[]Seen) float64 {
	return Lately(slices.Concat(seen...), rarely).Factor("coda", "eddy", "g0")
}

func each(n int, ratio float64, until time.Duration) []Seen {
	return on("coda", "eddy", "g0", n, ratio, until)
}

func TestHowACrewDoesOfLate(t *testing.T) {
	t.Parallel()
	assert.Equal(t, 1.0, crew())
	assert.Equal(t, 1.0, crew(each(2, 2, 0)), "two frames prove nothing")
	assert.Equal(t, 1.0, crew(each(50, 1.03, 0)), "as good as expected")
	assert.InDelta(t, 1.95, crew(each(3, 2, 0)), 0.06, "three that take twice as long are no chance")
	assert.Equal(t, 1.0, crew(each(3, 1.2, 0)), "three that take a little longer may be")
	assert.InDelta(t, 1.40, crew(each(40, 1.42, 0)), 0.03)
	assert.Less(t, crew(each(12, 0.7, 0)), 0.8, "faster counts as well")
	assert.Equal(t, 1.0, crew(each(20, 1, 0), on("coda", "eddy", "g0", 1, 9, 0)), "a heavy frame is no slow host")
	odd := each(5, 2, 0)
	odd[0].Ratio, odd[1].Ratio, odd[2].Ratio, odd[3].Took = 0, -1, math.Inf(1), 0
	assert.Equal(t, 1.0, crew(odd), "what is no ratio is left out")
}

// A host that somebody has begun to work on is known to be slow though its quick frames from
// before are more, and forgotten as soon when they have gone.
func TestWhatIsSlowNowCounts(t *testing.T) {
	t.Parallel()
	assert.Greater(t, crew(each(4, 3.5, 0), each(40, 1, 14*time.Minute)), 3.0)
	assert.InDelta(t, 1.0, crew(each(18, 1, 0), each(10, 3, 18*time.Minute)), 0.1)
}

// A host that is slow with frames of half an hour is known to be at every look, not only after those in whose
// last hour three were done; and is forgotten when it has recovered.
func TestLongFramesAreRemembered(t *testing.T) {
	t.Parallel()
	const took, ratio = 36 * time.Minute, 1.8
	long := func(n int, ratio float64, until time.Duration) (out []Seen) {
		took := time.Duration(ratio / 1.8 * float64(took))
		for i := range n {
			out = append(out, Seen{Shot: "coda", Host: "eddy", Crew: "g0", Ratio: ratio, Took: took, Ago: until + time.Duration(i)*took})
		}
		return out
	}
	for ago := time.Duration(0); ago < took; ago += time.Minute {
		assert.InDelta(t, ratio, crew(long(4, ratio, ago)), 0.1, ago)
	}
	assert.InDelta(t, 1.0, crew(long(8, 1, 0), long(4, ratio, 8*20*time.Minute)), 0.1)
}

// The rarer it is that a host is slowed, the more it takes to be believed of it. Of many crews that are looked at
// often, some have had two heavy frames: that is no news of any.
func TestWhatIsRareTakesMoreToBeBelieved(t *testing.T) {
	t.Parallel()
	three := each(3, 1.42, 0)
	factor := func(slowed float64) float64 { return Lately(three, slowed).Factor("coda", "eddy", "g0") }
	assert.Greater(t, factor(0.3), factor(0.1))
	assert.Greater(t, factor(0.1), factor(rarely))
	assert.Less(t, factor(rarely), 1.15)

	// Nor is it one that a crew is slower than the others where nobody knew how fast it is.
	wrongly := slices.Concat(each(6, 1.3, 0))
	for i := range wrongly {
		wrongly[i].Off = 0.2
	}
	assert.Less(t, Lately(wrongly, rarely).Factor("coda", "eddy", "g0"), 1.1)
	assert.Greater(t, Lately(each(6, 1.3, 0), rarely).Factor("coda", "eddy", "g0"), 1.12)

	wrong := 0
	random := rand.New(rand.NewPCG(1, 2))
	for range 2000 {
		var seen []Seen
		for i := range 8 {
			ratio := math.Exp(0.08 * random.NormFloat64())
			if random.IntN(20) == 0 {
				ratio *= 1.5
			}
			seen = append(seen, Seen{Shot: "coda", Host: "eddy", Crew: "g0", Ratio: ratio, Took: 30 * time.Minute, Ago: time.Duration(i) * 30 * time.Minute})
		}
		if Lately(seen, rarely).Factor("coda", "eddy", "g0") > 1.15 {
			wrong++
		}
	}
	assert.Less(t, wrong, 20, "of two thousand looks at a crew that is as it was, one in a hundred says otherwise")
}

// What is slow is told from what it is seen with: each case is who rendered what, and how
// slow another shot, another crew of the host, and another host are taken to be for it.
func TestWhoseSlownessItIs(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		seen                        []Seen
		otherShot, otherCrew, other float64
	}{
		"somebody works at eddy": {slices.Concat(on("coda", "eddy", "g0", 6, 3, 0), on("coda", "eddy", "g1", 6, 3, 0), on("coda", "dory", "g0", 15, 1, 0)), 3, 3, 1},
		"one host alone":         {on("coda", "eddy", "g0", 8, 2, 0), 2, 2, 1},
		"the shot has become heavy": {
			slices.Concat(on("coda", "eddy", "g0", 8, 2, 0), on("coda", "dory", "g0", 8, 2, 0), on("coda", "tern", "g0", 8, 2, 0), on("stair", "eddy", "g0", 15, 1, 0)), 1, 2, 2,
		},
		"one crew is held up": {slices.Concat(on("coda", "eddy", "g0", 8, 2, 0), on("coda", "eddy", "g1", 15, 1, 0), on("coda", "dory", "g0", 15, 1, 0)), 2, 1, 1},
	} {
		of := Lately(c.seen, rarely)
		assert.InDelta(t, c.otherShot, of.Factor("stair", "eddy", "g0"), 0.15, name)
		assert.InDelta(t, c.otherCrew, of.Factor("coda", "eddy", "cpu"), 0.15, name)
		assert.InDelta(t, c.other, of.Factor("coda", "bellows", "g0"), 0.15, name)
		for _, x := range c.seen {
			assert.InDelta(t, x.Ratio, of.Factor(x.Shot, x.Host, x.Crew), 0.2, "%s: what was seen is explained", name)
		}
	}
}

// However frames were, of whatever and wherever: the same frames in another order say the
// same, and no factor is beyond what any frame could explain.
func TestFactorsAreBounded(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var seen []Seen
		for range rapid.IntRange(0, 40).Draw(t, "frames") {
			name := func(what string) string { return string(rapid.RuneFrom([]rune("abc")).Draw(t, what)) }
			seen = append(seen, Seen{
				name("shot"), name("host"), name("crew"), math.Exp(rapid.Float64Range(-3, 3).Draw(t, "log")), rapid.Float64Range(0, 0.5).Draw(t, "off"),
				time.Duration(rapid.IntRange(1, 4000).Draw(t, "s")) * time.Second, time.Duration(rapid.IntRange(0, 7200).Draw(t, "ago")) * time.Second,
			})
		}
		of := Lately(seen, rarely)
		for _, x := range seen {
			f := of.Factor(x.Shot, x.Host, x.Crew)
			assert.Greater(t, f, math.Exp(-20))
			assert.Less(t, f, math.Exp(20))
		}
		slices.Reverse(seen)
		again := Lately(seen, rarely)
		for _, x := range seen {
			assert.InEpsilon(t, of.Factor(x.Shot, x.Host, x.Crew), again.Factor(x.Shot, x.Host, x.Crew), 1e-9)
		}
	})
}
