package pricing_test

import (
	"math/big"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"rotanex.example/core/pricing"
)

// tenner is a job of frames of six minutes at EUR 10 a node-hour: EUR 1 each.
func tenner() pricing.JobCost {
	return pricing.JobCost{Prices: pricing.Work{NodeHour: pricing.MustMoney("10")}, Factor: big.NewRat(1, 1), Nodes: 2, Planned: 6 * time.Minute, Ahead: time.Minute}
}

func TestWhatAFarmsJobMayComeTo(t *testing.T) {
	j := tenner()
	assert.Equal(t, "10.00", j.With(10).String(), "as planned")
	assert.Equal(t, "3.00", j.With(2).String(), "of the last two either may take half as long again")
	keep, stop := j.Keeps(10, pricing.MustMoney("7.50"))
	assert.Equal(t, 7, keep)
	assert.False(t, stop)

	seen := j
	seen.Done, seen.NodeTime = 4, 56*time.Minute // they took fourteen minutes each, failures included
	assert.Equal(t, 10*time.Minute, seen.Frame(), "as seen, and as planned")
	assert.Equal(t, "19.33", seen.With(6).String())

	billed := seen
	billed.Charge = pricing.MustMoney("18.67") // twice what its prices say
	assert.Equal(t, "38.67", billed.With(6).String(), "it is taken to go on so")

	late := j
	late.Begun = []time.Duration{20 * time.Minute}
	assert.Equal(t, "3.50", late.With(0).String())
	_, stop = late.Keeps(0, pricing.MustMoney("3.49"))
	assert.True(t, stop, "a minute more would be too much")
	_, stop = late.Keeps(0, pricing.MustMoney("3.50"))
	assert.False(t, stop)

	least := j
	least.Prices.MinimumCharge = pricing.MustMoney("25")
	assert.Equal(t, "25.00", least.With(10).String())
	least.Others = pricing.MustMoney("18")
	assert.Equal(t, "10.00", least.With(10).String(), "what others of the order come to counts towards it")
	assert.Equal(t, "7.00", least.With(0).String())
}

// Whatever frames take there, a job that is looked at and does as Keeps says comes to no more than is left for it; and as long
// as no frame takes longer than the margin allows, none is lost that was begun.
func TestAJobStaysWithinWhatIsLeft(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		f := drawnFarm(t)
		left := pricing.MustMoney("0.01").Times(rapid.Int64Range(1, 4000).Draw(t, "left"))
		keep, _ := f.Keeps(len(f.frames), left)
		f.frames = f.frames[:keep]
		for !f.over() {
			f.passes(f.every)
			keep, stop := f.Keeps(len(f.frames), left)
			if stop {
				assert.False(t, f.tame, "stopped with %v in work", f.Begun)
				break
			}
			f.frames = f.frames[:keep]
		}
		f.passes(f.every) // until the stop is heard
		f.Ahead = 0
		require.LessOrEqual(t, f.Stopped().Cmp(left), 0, "%s of %s", f.Stopped(), left)
	})
}

// farm is a made-up one that bills what it begins.
type farm struct {
	pricing.JobCost
	every  time.Duration   // it is looked at
	frames []time.Duration // that wait, by what they take
	work   []time.Duration // what frames in work take, beside Begun
	tame   bool            // none takes longer than the margin allows
}

func drawnFarm(t *rapid.T) *farm {
	f := &farm{JobCost: tenner(), every: time.Duration(rapid.IntRange(1, 24).Draw(t, "every")) * tick, tame: rapid.Bool().Draw(t, "tame")}
	f.Nodes, f.Ahead = rapid.IntRange(1, 9).Draw(t, "nodes"), 2*f.every
	f.Prices.Frame = pricing.MustMoney("0.01").Times(rapid.Int64Range(0, 9).Draw(t, "frame price"))
	most := 3600
	if f.tame {
		most = 360 * 5 / 4
	}
	for range rapid.IntRange(1, 60).Draw(t, "frames") {
		f.frames = append(f.frames, time.Duration(rapid.IntRange(min(most, 300), most).Draw(t, "takes"))*time.Second)
	}
	return f
}

func (f *farm) over() bool { return len(f.frames) == 0 && len(f.work) == 0 }

// tick is in what steps time passes.
const tick = 5 * time.Second

// passes lets time pass: nodes take what waits, and end what is rendered.
func (f *farm) passes(d time.Duration) {
	for range d / tick {
		for len(f.work) < f.Nodes && len(f.frames) > 0 {
			f.work, f.frames, f.Begun = append(f.work, f.frames[0]), f.frames[1:], append(f.Begun, 0)
		}
		var work, begun []time.Duration
		for i, takes := range f.work {
			if so := f.Begun[i] + tick; so < takes {
				work, begun = append(work, takes), append(begun, so)
			} else {
				f.Done++
				f.NodeTime += takes
				f.Longest = max(f.Longest, takes)
			}
		}
		f.work, f.Begun = work, begun
	}
}
