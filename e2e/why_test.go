package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/api"
	"rotanex.example/service/hosts"
)

// Why a frame is not being rendered and why a machine does nothing: the answers are those
// by which leases are granted.
func TestWhyAFrameWaitsAndWhyAHostIsIdle(t *testing.T) {
	h, wall, one, two, run := playedHouse(t, "1-12")
	short := run.Id.String()[:8]
	why := func(frame int) api.FrameWhy {
		return must[api.FrameWhy](t)(h.admin().WhyFrame(t.Context(), run.Id, "coda-060", frame))
	}
	host := func(name string) api.HostWhy { return must[api.HostWhy](t)(h.admin().WhyHost(t.Context(), name)) }

	// Before anybody asked for work.
	w := why(1)
	require.NotEmpty(t, w.Crews)
	assert.Equal(t, api.Now, w.Crews[0].When)
	assert.True(t, w.Left)
	assert.Contains(t, w.Answer, "as soon as its agent asks")
	assert.Equal(t, 11, why(12).Ahead)
	assert.Contains(t, host("bellows").Answer, "takes a frame of coda-060 as soon as its agent asks")

	// What it says is what happens.
	leases := one.lease()
	require.NotEmpty(t, leases)
	assert.Contains(t, why(leases[0].Frame).Answer, "it is being rendered on bellows/")
	assert.Contains(t, host("bellows").Answer, fmt.Sprintf("renders frame %d of coda-060", leases[0].Frame))
	one.failed(leases[0], api.ResultCauseCrashed)
	w = why(leases[0].Frame)
	for _, v := range w.Crews {
		if v.Host == "bellows" && v.Crew == leases[0].Crew {
			assert.Equal(t, api.Later, v.When)
			assert.Contains(t, v.Why, "has failed at it, and leaves it to eddy/")
		}
	}
	assert.Contains(t, two.lease()[0].Shot, "coda-060")

	// A paused run, a draining host, an agent that is lost.
	must[api.Run](t)(h.admin().SetRunState(t.Context(), run.Id, api.SetRunStateJSONRequestBody{State: "paused"}))
	assert.Contains(t, why(12).Answer, "its run is paused; rotanex resume "+short)
	assert.Contains(t, host("bellows").Answer, "rotanex resume "+short)
	must[api.Run](t)(h.admin().SetRunState(t.Context(), run.Id, api.SetRunStateJSONRequestBody{State: "running"}))
	must[api.Host](t)(h.admin().DrainHost(t.Context(), "bellows", api.DrainHostJSONRequestBody{Drain: true}))
	assert.Contains(t, host("bellows").Answer, "rotanex hosts drain bellows --undo")
	said := h.good("frames", "why", short, "coda-060", "12")
	assert.Contains(t, said, "Frame 12 of coda-060: eddy/")
	assert.Contains(t, said, "is draining")
	wall.Advance(hosts.Lost)
	one.beat()
	w = why(12)
	assert.False(t, w.Left)
	assert.Contains(t, w.Answer, "nobody is left for it: ")
	assert.Contains(t, w.Answer, "eddy is not heard of")
	assert.Contains(t, w.Answer, "rotanex replan "+short+" --apply")
	assert.Equal(t, w.Left, len(h.run(run).Stranded) == 0, "the run says the same")

	// As JSON it is the record and nothing else; what there is not is named.
	var read api.HostWhy
	require.NoError(t, json.Unmarshal([]byte(h.good("hosts", "why", "eddy", "--output", "json")), &read))
	assert.Equal(t, "eddy", read.Host)
	refused(t, http.StatusNotFound)(h.admin().WhyHost(t.Context(), "nosuch"))
	refused(t, http.StatusNotFound)(h.admin().WhyFrame(t.Context(), run.Id, "coda-060", 13))
	status, _, errs := h.rotanex("frames", "why", short, "coda-060", "seven")
	assert.Equal(t, 1, status)
	assert.Contains(t, errs, `frame "seven": a frame is a whole number`)
}
