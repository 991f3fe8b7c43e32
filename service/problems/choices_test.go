package problems

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"

	"rotanex.example/core/planning"
)

func TestWhichDevicesAPlanMayUse(t *testing.T) {
	t.Parallel()
	all := []planning.Timing{
		{Shot: "lamp", Host: "bellows", Crew: "g0"},
		{Shot: "lamp", Host: "bellows", Crew: "g0+cpu"},
		{Shot: "lamp", Host: "bellows", Crew: "cpu"},
		{Shot: "lamp", Offer: "skerry-64", Crew: "cpu"},
		{Shot: "lamp", Farm: "ebb"},
		{Shot: "lamp", Farm: "gannet"},
		{Shot: "storm", Host: "dory", Crew: "cpu"},
		{Shot: "storm", Farm: "gannet"},
	}
	farms := map[string]string{"lamp ebb": "g0", "lamp gannet": "cpu", "storm gannet": "cpu"}
	gpus := []planning.Timing{all[0], all[1], all[4]}
	for which, want := range map[string][]planning.Timing{
		"": all, DevicesAny: all, DevicesGPU: gpus,
		DevicesGPUElseCPU: append(slices.Clone(gpus), all[6], all[7]), // storm has nobody else
	} {
		b := builder{problem: planning.Problem{Timings: slices.Clone(all)}, notes: Notes{FarmCrews: farms}}
		b.onDevices(which)
		assert.Equal(t, want, b.problem.Timings, which)
	}
}

func TestOnlyTheBacklogHasNoDeadline(t *testing.T) {
	t.Parallel()
	assert.True(t, Ask{Priority: "backlog"}.Backlog())
	assert.False(t, Ask{Priority: "low"}.Backlog())
	assert.False(t, Ask{}.Backlog())
}
