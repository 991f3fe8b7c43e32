package schedule

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestWhatHasHappened(t *testing.T) {
	t.Parallel()
	before := map[string]string{
		"host eddy": "up", "host dory": "up", "host desk-ada": "lost", "host punt": "draining", "run 1b2c3d4e": "0", "source tern": "a", "farm gannet-day": "x", "cap": "5.00",
	}
	same := func(change func(map[string]string)) []string {
		after := map[string]string{}
		for k, v := range before {
			after[k] = v
		}
		change(after)
		return happened(before, after)
	}
	for name, c := range map[string]struct {
		change func(map[string]string)
		said   []string
	}{
		"nothing":                      {func(map[string]string) {}, nil},
		"a host is lost":               {func(w map[string]string) { w["host eddy"] = "lost" }, []string{"eddy is lost"}},
		"a host drains":                {func(w map[string]string) { w["host eddy"] = "draining" }, []string{"eddy is draining"}},
		"one that drained is off":      {func(w map[string]string) { w["host punt"] = "lost" }, nil},
		"a host comes back":            {func(w map[string]string) { w["host desk-ada"] = "up" }, []string{"desk-ada is back"}},
		"a host joins":                 {func(w map[string]string) { w["host kittiwake"] = "up" }, []string{"kittiwake joined"}},
		"one that never came":          {func(w map[string]string) { w["host kittiwake"] = "lost" }, nil},
		"a host is taken out":          {func(w map[string]string) { delete(w, "host dory") }, []string{"dory was taken out of the stock"}},
		"a server fails":               {func(w map[string]string) { w["server tern-1"] = "it was not up" }, []string{"server tern-1 failed: it was not up"}},
		"a farm rejects a job":         {func(w map[string]string) { w["job at gannet-day for storm-050"] = "rejected" }, []string{"the job at gannet-day for storm-050 was rejected"}},
		"a crew gets no more":          {func(w map[string]string) { w["crew eddy/g0 for storm-050"] = "it crashed" }, []string{"eddy/g0 for storm-050 gets no more: it crashed"}},
		"a run begins, another ends":   {func(w map[string]string) { delete(w, "run 1b2c3d4e"); w["run 9f"] = "1" }, []string{"run 9f began", "run 1b2c3d4e is over"}},
		"a run becomes urgent":         {func(w map[string]string) { w["run 1b2c3d4e"] = "1" }, []string{"the priority of run 1b2c3d4e changed"}},
		"a price changes":              {func(w map[string]string) { w["source tern"] = "b" }, []string{"source tern changed"}},
		"a farm is new, one is gone":   {func(w map[string]string) { delete(w, "farm gannet-day"); w["farm ebb"] = "y" }, []string{"farm ebb is new", "gannet-day was taken out of the stock"}},
		"what the run may cost":        {func(w map[string]string) { w["cap"] = "9.00" }, []string{"the run's cap changed"}},
		"several at once, in an order": {func(w map[string]string) { w["host eddy"] = "lost"; w["host dory"] = "lost" }, []string{"dory is lost", "eddy is lost"}},
	} {
		assert.ElementsMatch(t, c.said, same(c.change), name)
	}
	assert.Equal(t, []string{"bellows/cpu takes 40 % longer than expected of it"}, slow(map[string]float64{"bellows/cpu": 1.4, "eddy/g0": 0.8}))
	assert.Equal(t, []string{"bellows/cpu takes 40 % longer than expected of it", "dory/g0 takes 30 % longer than expected of it", "2 more do"},
		slow(map[string]float64{"bellows/cpu": 1.4, "capstan/g0": 1.1, "capstan/g1": 1.1, "dory/g0": 1.3}))
}
