package disruptions_test

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"rotanex.example/core/disruptions"
)

func Example() {
	// Over four weeks somebody sat down at a host twice, for an hour and for two.
	rates := disruptions.Learn(disruptions.Seen{
		HostTime: 600 * time.Hour, Shots: 30,
		Slowed: []disruptions.Slowdown{{Lasted: time.Hour, Times: 2}, {Lasted: 2 * time.Hour, Times: 3}},
	})
	fmt.Println("slowed every", rates.SlowedEvery.Round(time.Hour), "for", rates.SlowedFor, "a host lost every", rates.LostEvery.Round(time.Hour))
	fmt.Printf("%.3f of shots grow heavier\n", rates.Heavier)
	// Output:
	// slowed every 219h0m0s for 1h30m0s a host lost every 1600h0m0s
	// 0.025 of shots grow heavier
}

var evening = time.Date(2031, 3, 7, 18, 0, 0, 0, time.UTC)

// rendered is a run of one shot on hosts that take so long a frame, one after another, times
// what happens to a frame.
func rendered(run string, frames int, hosts []float64, times func(host, number int, at time.Time) float64) (out []disruptions.Try) {
	free := make([]time.Time, len(hosts))
	for i := range free {
		free[i] = evening
	}
	for number := range frames {
		host := 0
		for i := range free {
			if free[i].Before(free[host]) {
				host = i
			}
		}
		seconds := hosts[host] * (1 + 0.02*float64(number%5)) * times(host, number, free[host])
		free[host] = free[host].Add(time.Duration(seconds * float64(time.Second)))
		out = append(out, disruptions.Try{Run: run, Shot: "orrery-020", Host: fmt.Sprint("h", host), Crew: "g0", Number: number, Ended: free[host], Seconds: seconds})
	}
	return out
}

func evenly(int, int, time.Time) float64 { return 1 }

func TestAnEvenRunSaysThatNothingHappened(t *testing.T) {
	seen := disruptions.See(rendered("a", 200, []float64{60, 90, 200}, evenly))
	assert.Empty(t, seen.Slowed)
	assert.Empty(t, seen.Heavier)
	assert.Zero(t, seen.Lost)
	assert.Equal(t, 1, seen.Shots)
	assert.Greater(t, seen.HostTime, 5*time.Hour)
	assert.Greater(t, disruptions.Learn(seen).SlowedEvery, disruptions.DefaultSlowedEvery, "an even run is a reason to expect less")
}

func TestASlowedHostIsNotAHeavierShot(t *testing.T) {
	from, to := evening.Add(30*time.Minute), evening.Add(90*time.Minute)
	seen := disruptions.See(rendered("a", 200, []float64{60, 90, 100}, func(host, _ int, at time.Time) float64 {
		if host == 1 && !at.Before(from) && at.Before(to) {
			return 2.5
		}
		return 1
	}))
	assert.Empty(t, seen.Heavier)
	if assert.Len(t, seen.Slowed, 1) {
		assert.InDelta(t, time.Hour, seen.Slowed[0].Lasted, float64(10*time.Minute))
		assert.InDelta(t, 2.5, seen.Slowed[0].Times, 0.2)
	}
}

func TestAHeavierShotIsNoSlowedHost(t *testing.T) {
	seen := disruptions.See(rendered("a", 200, []float64{60, 90, 100}, func(_, number int, _ time.Time) float64 {
		if number >= 110 {
			return 2
		}
		return 1
	}))
	assert.Empty(t, seen.Slowed)
	if assert.Len(t, seen.Heavier, 1) {
		assert.InDelta(t, 2, seen.Heavier[0], 0.1)
	}
}

func TestAHostThatDoesNotComeBackIsLost(t *testing.T) {
	run := rendered("a", 60, []float64{60, 90}, evenly)
	lost := disruptions.Try{Run: "a", Shot: "orrery-020", Host: "h1", Crew: "g0", Number: 9, Lost: true}
	lost.Ended = evening.Add(20 * time.Minute)
	assert.Zero(t, disruptions.See(append(run, lost)).Lost, "it rendered after that")
	lost.Ended = evening.Add(20 * time.Hour)
	assert.Equal(t, 1, disruptions.See(append(run, lost)).Lost)
}

func TestAMoreUrgentRunThatComesOnTheWayIsSeen(t *testing.T) {
	long := rendered("a", 100, []float64{60, 60}, evenly)
	urgent := rendered("b", 20, []float64{60, 60}, evenly)
	for i := range urgent {
		urgent[i].Priority = 1
		urgent[i].Ended = urgent[i].Ended.Add(20 * time.Minute)
	}
	seen := disruptions.See(append(long, urgent...))
	if assert.Len(t, seen.Urgent, 1, "what is less urgent takes nothing") {
		assert.InDelta(t, 10*time.Minute, seen.Urgent[0], float64(time.Minute), "it would have had both for ten minutes")
	}
	assert.InDelta(t, 62*time.Minute, seen.RunTime, float64(4*time.Minute))
	rates := disruptions.Learn(seen)
	assert.Less(t, rates.UrgentEvery, disruptions.DefaultUrgentEvery)
	stretches := rates.DrawUrgent(nil, rand.New(rand.NewPCG(1, 2)), evening, evening.Add(9999*time.Hour))
	assert.InDelta(t, 9999/rates.UrgentEvery.Hours(), len(stretches), 40)
}

func TestNothingSeenAndNothingExpected(t *testing.T) {
	assert.Equal(t, disruptions.Seen{}, disruptions.See(nil))
	random := rand.New(rand.NewPCG(1, 1))
	var none disruptions.Rates
	assert.Empty(t, none.DrawSlow(nil, random, evening, evening.Add(9999*time.Hour)))
	assert.Zero(t, none.DrawLost(random, evening, evening.Add(9999*time.Hour)))
	from, times := none.DrawHeavier(random, 0)
	assert.Equal(t, []float64{1, 1}, []float64{from, times})
}

// What is drawn by rates that are known is learnt again from what was drawn.
func TestRatesThatAreDrawnAreLearnt(t *testing.T) {
	truth := disruptions.Rates{SlowedEvery: 20 * time.Hour, SlowedFor: 2 * time.Hour, SlowedTimes: 3, LostEvery: 300 * time.Hour, Heavier: 0.2, HeavierTimes: 1.8}
	random := rand.New(rand.NewPCG(3, 4))
	var seen disruptions.Seen
	const weekend = 60 * time.Hour
	for range 2000 {
		seen.Shots++
		until := evening.Add(weekend)
		if lost := truth.DrawLost(random, evening, until); !lost.IsZero() {
			until = lost
			seen.Lost++
		}
		seen.HostTime += until.Sub(evening)
		for _, s := range truth.DrawSlow(nil, random, evening, until) {
			seen.Slowed = append(seen.Slowed, disruptions.Slowdown{Lasted: s.To.Sub(s.From), Times: s.Times})
		}
		if from, times := truth.DrawHeavier(random, 0); from < 1 {
			seen.Heavier = append(seen.Heavier, times)
		}
	}
	learnt := disruptions.Learn(seen)
	assert.InEpsilon(t, truth.SlowedEvery, learnt.SlowedEvery, 0.06)
	assert.InEpsilon(t, truth.SlowedFor, learnt.SlowedFor, 0.06)
	assert.InEpsilon(t, truth.SlowedTimes, learnt.SlowedTimes, 0.06)
	assert.InEpsilon(t, truth.LostEvery, learnt.LostEvery, 0.15)
	assert.InEpsilon(t, truth.Heavier, learnt.Heavier, 0.15)
	assert.InEpsilon(t, truth.HeavierTimes, learnt.HeavierTimes, 0.06)
}

func TestWhateverIsSeenGivesRatesThatCanBeDrawn(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(0, 60).Draw(t, "tries")
		var tries []disruptions.Try
		for i := range n {
			tries = append(tries, disruptions.Try{
				Run: rapid.SampledFrom([]string{"a", "b"}).Draw(t, "run"), Shot: rapid.SampledFrom([]string{"s", "t"}).Draw(t, "shot"),
				Host: rapid.SampledFrom([]string{"h", "i"}).Draw(t, "host"), Crew: "cpu", Number: i, Lost: rapid.Bool().Draw(t, "lost"),
				Ended: evening.Add(time.Duration(rapid.IntRange(0, 1e6).Draw(t, "ended")) * time.Second), Seconds: rapid.Float64Range(-1, 1e5).Draw(t, "seconds"),
			})
		}
		rates := disruptions.Learn(disruptions.See(tries))
		assert.Positive(t, rates.SlowedEvery)
		assert.Positive(t, rates.SlowedFor)
		assert.Positive(t, rates.LostEvery)
		assert.GreaterOrEqual(t, rates.SlowedTimes, 1.0)
		assert.Greater(t, rates.Heavier, 0.0)
		assert.LessOrEqual(t, rates.Heavier, 1.0)
		random := rand.New(rand.NewPCG(1, uint64(n)))
		last := evening
		for _, s := range rates.DrawSlow(nil, random, evening, evening.Add(72*time.Hour)) {
			assert.False(t, s.From.Before(last), "stretches follow one another")
			assert.GreaterOrEqual(t, s.Times, 1.0)
			last = s.To
		}
	})
}

// What slows a host now is over some time: until then and after it are added up.
func TestASlowHostOverTime(t *testing.T) {
	t.Parallel()
	r := disruptions.Rates{SlowedEvery: 57 * time.Hour, SlowedFor: 3 * time.Hour}
	assert.InDelta(t, 0.05, r.Slowed(), 1e-9)
	assert.Zero(t, disruptions.Rates{}.Slowed())
	assert.InDelta(t, 3, r.Over(3, time.Second), 0.01, "so soon it is as it is now")
	assert.Equal(t, 3.0, r.Over(3, 0))
	assert.Equal(t, 3.0, disruptions.Rates{}.Over(3, time.Hour), "that it ends is not known")
	// Over thirty hours it is slowed for three, in which it gets a third of its work done: 28 of 30.
	assert.InDelta(t, 30.0/28, r.Over(3, 30*time.Hour), 0.001)
	assert.Less(t, r.Over(0.5, time.Hour), 1.0, "what is faster is so for a while, too")
	rapid.Check(t, func(t *rapid.T) {
		times, left := rapid.Float64Range(0.05, 20).Draw(t, "times"), time.Duration(rapid.Int64Range(1, int64(1000*time.Hour)).Draw(t, "left"))
		over := r.Over(times, left)
		if over < min(1, times)-1e-9 || over > max(1, times)+1e-9 {
			t.Fatalf("%g over %s is %g", times, left, over)
		}
	})
}
