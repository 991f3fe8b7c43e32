package memory_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"rotanex.example/core/memory"
)

func gpu(id string, gb, held float64) memory.Device {
	return memory.Device{ID: id, Total: memory.GB(gb), Held: memory.GB(held)}
}

func crew(devices ...memory.Device) memory.Crew {
	return memory.Crew{Devices: devices, Host: memory.GB(64), CanShare: true, CanSpill: true, CanFallBack: true}
}

func TestACrewsLimitIsItsSmallestDevice(t *testing.T) {
	n := memory.Need{Scene: memory.GB(9.5), Host: memory.GB(10)}
	f := memory.Judge(n, crew(gpu("g0", 12, 0), gpu("g1", 8, 0.9)))
	assert.Equal(t, memory.DoesNotFit, f.Verdict)
	assert.Equal(t, "g1", f.Limiting)
	assert.InDelta(t, 7.1, f.Limit.GB(), 1e-9, "12 + 8 is 8, not 20, less what is held")
	assert.InDelta(t, -2.4, f.HeadRoom.GB(), 1e-9)
	require.NotNil(t, f.Without)
	assert.Equal(t, memory.Without{Device: "g1", Limit: memory.GB(12), Verdict: memory.Fits}, *f.Without)
	assert.Equal(t, 6, f.Renderers)
	assert.Contains(t, f.Why, "needs 9.5 GB on each device, g1 has 7.1 GB free (0.9 GB of 8.0 GB are held)")

	close := memory.Judge(n, crew(gpu("g0", 9.8, 0)))
	assert.True(t, close.Tight)
	assert.Equal(t, memory.Fits, close.Verdict)
	assert.Greater(t, close.Slowdown, 1.0)
}

func TestLinkedDevicesShare(t *testing.T) {
	pair := crew(gpu("g0", 24, 0), gpu("g1", 24, 0))
	n := memory.Need{Scene: memory.GB(30), Host: memory.GB(40)}
	assert.Equal(t, memory.DoesNotFit, memory.Judge(n, pair).Verdict)
	pair.Linked = true
	f := memory.Judge(n, pair)
	assert.Equal(t, memory.Shares, f.Verdict)
	assert.InDelta(t, 19.5, f.Need.GB(), 1e-9, "more than half on each")
	pair.CanShare = false
	assert.Equal(t, memory.DoesNotFit, memory.Judge(n, pair).Verdict)
}

func TestWhatTheShotPermits(t *testing.T) {
	n := memory.Need{Scene: memory.GB(16), Textures: memory.GB(6), Host: memory.GB(8)}
	small := crew(gpu("g0", 12, 0))
	assert.Equal(t, memory.DoesNotFit, memory.Judge(n, small).Verdict)
	n.Permits = []memory.Step{memory.Spill}
	f := memory.Judge(n, small)
	assert.Equal(t, memory.Spills, f.Verdict)
	assert.InDelta(t, 4, f.Spilled.GB(), 1e-9)
	assert.Greater(t, f.Slowdown, 1.5)
	n.Textures = memory.GB(3)
	n.Permits = append(n.Permits, memory.CPU)
	assert.Equal(t, memory.FallsBack, memory.Judge(n, small).Verdict)
	n.Host = memory.GB(65)
	f = memory.Judge(n, small)
	assert.Equal(t, memory.DoesNotFit, f.Verdict)
	assert.Contains(t, f.Why, "65.0 GB of host memory")
	assert.Equal(t, memory.Fits, memory.Judge(memory.Need{Scene: memory.GB(99), Host: memory.GB(8)}, memory.Crew{Host: memory.GB(16)}).Verdict)
}

func TestAnObservedPeakCorrectsWhatWasDeclared(t *testing.T) {
	n := memory.Need{Scene: memory.GB(9), Buffers: memory.Buffers(1920, 1080, 4)}
	need, seen := n.Device()
	assert.False(t, seen)
	assert.InDelta(t, 9.133, need.GB(), 1e-3)
	n.Observed = memory.GB(7.5)
	need, seen = n.Device()
	assert.True(t, seen)
	assert.InDelta(t, 7.5, need.GB(), 1e-9, "less than was declared")
	n.Observed, n.AtLeast = memory.GB(12), true
	need, _ = n.Device()
	assert.Greater(t, need, memory.GB(12), "it ran out at 12")
}

func TestAnswer(t *testing.T) {
	n := memory.Need{Scene: memory.GB(11)}
	candidate := func(host, name string, ids []string, devices ...memory.Device) memory.Candidate {
		return memory.Candidate{Host: host, Crew: name, Devices: ids, Fit: memory.Judge(n, crew(devices...))}
	}
	failed := candidate("bellows", "g0+g1", []string{"g0", "g1"}, gpu("g0", 24, 0), gpu("g1", 8, 0))
	others := []memory.Candidate{
		candidate("bellows", "g0", []string{"g0"}, gpu("g0", 24, 0)),
		candidate("bellows", "g1", []string{"g1"}, gpu("g1", 8, 0)),
		candidate("eddy", "g0", []string{"g0"}, gpu("g0", 24, 0)),
	}
	step, to := memory.Answer(memory.DefaultSteps, failed, others)
	assert.Equal(t, memory.SmallerCrew, step)
	assert.Len(t, to, 1)
	assert.Equal(t, "g0", to[0].Crew)
	step, to = memory.Answer([]memory.Step{memory.LargerDevice}, failed, others)
	assert.Equal(t, memory.LargerDevice, step)
	assert.Len(t, to, 2)
	failed.Falls = true
	step, _ = memory.Answer([]memory.Step{memory.Hold, memory.LargerDevice}, failed, others)
	assert.Equal(t, memory.Hold, step)
	step, to = memory.Answer([]memory.Step{memory.SmallerCrew, memory.CPU}, failed, others[1:2])
	assert.Equal(t, memory.CPU, step)
	assert.Equal(t, failed.Crew, to[0].Crew)
	step, _ = memory.Answer(memory.DefaultSteps, failed, nil)
	assert.Equal(t, memory.Hold, step, "nothing that the shot permits helps")
}

func TestParseSteps(t *testing.T) {
	steps, err := memory.ParseSteps(nil)
	require.NoError(t, err)
	assert.Equal(t, memory.DefaultSteps, steps)
	_, err = memory.ParseSteps([]string{"spill", "pray"})
	assert.ErrorContains(t, err, `"pray"`)
	_, err = memory.ParseSteps([]string{"spill", "spill"})
	assert.ErrorContains(t, err, "at most once")
}

// More memory never makes a verdict worse, and a device more never raises the limit.
func TestMoreMemoryIsNeverWorse(t *testing.T) {
	rank := map[memory.Verdict]int{memory.Fits: 0, memory.Shares: 1, memory.Spills: 2, memory.FallsBack: 3, memory.DoesNotFit: 4}
	rapid.Check(t, func(t *rapid.T) {
		gb := rapid.Float64Range(0, 48)
		n := memory.Need{Scene: memory.GB(gb.Draw(t, "scene")), Textures: memory.GB(gb.Draw(t, "textures")), Host: memory.GB(gb.Draw(t, "host")), Permits: []memory.Step{memory.Spill, memory.CPU}}
		a, b := gpu("g0", gb.Draw(t, "a"), 0), gpu("g1", gb.Draw(t, "b"), 0)
		small := memory.Judge(n, crew(a, b))
		single := memory.Judge(n, crew(a))
		a.Total += memory.GB(gb.Draw(t, "more"))
		large := memory.Judge(n, crew(a, b))
		if rank[large.Verdict] > rank[small.Verdict] {
			t.Fatalf("%s became %s with more memory", small.Verdict, large.Verdict)
		}
		if small.Renderers > 0 && small.Limit > single.Limit {
			t.Fatalf("limit %s of the pair is above %s of one", small.Limit, single.Limit)
		}
	})
}

func TestWhereAFrameGoesIsSaidInWords(t *testing.T) {
	fit := memory.Fit{Why: "needs 30 GB of 24 GB"}
	to := []memory.Candidate{{Host: "eddy", Crew: "g0"}, {Host: "bellows", Crew: "g1"}}
	assert.Equal(t, "out of memory: needs 30 GB of 24 GB; it goes to eddy/g0 or bellows/g1 (larger-device)", memory.Explain(memory.LargerDevice, fit, to))
	assert.Contains(t, memory.Explain(memory.CPU, fit, to[:1]), "tried again there with cpu")
	assert.Contains(t, memory.Explain(memory.Hold, fit, nil), "the frame is held")
}
