package agent

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/agent/desk"
	"rotanex.example/api"
	"rotanex.example/launchers"
)

// stays is a renderer that stays open; each frame runs a script before it is written to $out.
func stays(t *testing.T, each string) (*Agent, *takingIn) {
	t.Helper()
	script := `echo opened >> $(dirname $PICTURE)/opens; sleep 0.2; echo "{\"opened\":true,\"stages\":{\"load\":0.2}}"
	while read -r line; do n=${line#*:}; n=${n%%,*}; out=${line##*:\"}; out=${out%\"*}; ` + each + ` cp $PICTURE $out
	echo "{\"frame\":$n,\"progress\":1}"; echo "{\"frame\":$n,\"finished\":true,\"device_peak_bytes\":$((n*1000))}"; done; echo ended >> $(dirname $PICTURE)/opens`
	a, s := starting(t, "true", saying)
	l := a.Launchers["x"]
	l.Several, l.StaysOpen = nil, &launchers.StaysOpen{IdleS: 60}
	l.Args = []string{"-c", script, "x"}
	a.Launchers["x"] = l
	t.Cleanup(a.open.end)
	return a, s
}

// opened is what the renderers that were opened said when they were, and when they ended by themselves.
func opened(t *testing.T, a *Agent) string {
	t.Helper()
	data, err := os.ReadFile(filepath.Join(a.Scenes, "opens"))
	require.NoError(t, err)
	return strings.Join(strings.Fields(string(data)), " ")
}

func TestARendererStaysOpenBetweenStarts(t *testing.T) {
	t.Parallel()
	a, s := stays(t, "")
	s.begin(t, a, 3, 5)
	assert.Equal(t, []string{"3 done", "5 done", "4 done"}, s.begin(t, a, 4), "and any frame follows any other")
	assert.Equal(t, "opened", opened(t, a), "once")
	for frame, m := range s.measured {
		assert.GreaterOrEqual(t, m.OpeningS, 0.2)
		assert.InDelta(t, map[int]float64{3: 0.5, 5: 0.5}[frame]*m.OpeningS, m.OpeningPartS, 1e-9, "those have it that it was opened for")
		assert.InDelta(t, 0.2, m.Stages["load"], 1e-9)
		assert.Positive(t, m.PeakMemoryBytes)
	}
	assert.Less(t, s.measured[4].Seconds, s.measured[3].Seconds)
	assert.EqualValues(t, 5000, s.measured[5].DevicePeakBytes)

	require.NoError(t, os.Chtimes(filepath.Join(a.Scenes, "scene"), time.Now(), time.Now().Add(time.Hour)))
	s.begin(t, a, 6)
	assert.Equal(t, "opened ended opened", opened(t, a), "a scene that has changed is opened anew")
	a.open.end()
	s.begin(t, a, 7)
	assert.Equal(t, "opened ended opened opened", opened(t, a), "the desk was wanted: it was killed")
}

func TestARendererThatIsOpenIsInNobodysWay(t *testing.T) {
	t.Parallel()
	a, s := stays(t, "")
	s.begin(t, a, 3)
	lease := api.Lease{Lease: 4, Fence: 1, Shot: "lamp", Frame: 4, Crew: "g0", Devices: []string{"g0"}, Scene: "scene", Launcher: "x", Width: 8, Height: 8}
	a.begin(t.Context(), []api.Lease{lease})
	a.work.Wait()
	assert.Equal(t, "opened opened", opened(t, a), "there is one on each device")
	lease.Lease, lease.Fence, lease.Shot = 5, 1, "desk"
	a.begin(t.Context(), []api.Lease{lease})
	a.work.Wait()
	assert.Equal(t, "opened opened ended ended opened", opened(t, a), "another shot has the host's memory")
	assert.Equal(t, []string{"3 done", "4 done", "5 done"}, s.results)
}

func TestNoRendererStaysOpenOnADeskThatIsWanted(t *testing.T) {
	t.Parallel()
	// The second is in hand as the desk is wanted: a renderer that has nothing to render is ended at once.
	a, s := stays(t, "while [ $n = 5 ] && ! [ -e $(dirname $PICTURE)/go ]; do sleep 0.02; done;")
	a.Config.Desk.Return = Finish
	s.onResult = func(int) {
		a.deskIs(desk.Status{State: desk.InUse, Why: "somebody works at it"})
		assert.NoError(t, os.WriteFile(filepath.Join(a.Scenes, "go"), nil, 0o600))
	}
	assert.Equal(t, []string{"3 done", "5 done"}, s.begin(t, a, 3, 5), "what was begun is finished")
	assert.Equal(t, "opened ended", opened(t, a))
}

func TestARendererThatIsIdleIsClosed(t *testing.T) {
	t.Parallel()
	a, s := stays(t, "")
	a.Launchers["x"].StaysOpen.IdleS = 0
	s.begin(t, a, 3)
	require.Eventually(t, func() bool { return opened(t, a) == "opened ended" }, 20*time.Second, 5*time.Millisecond)
	s.begin(t, a, 4)
	assert.Equal(t, []string{"3 done", "4 done"}, s.results)
}

func TestAFrameOfARendererThatStaysOpenFails(t *testing.T) {
	t.Parallel()
	for each, want := range map[string]string{
		`[ $n = 5 ] && { echo "{\"frame\":5,\"failed\":\"out-of-memory\",\"why\":\"no room\"}"; continue; };`: "5 failedout-of-memory",
		`[ $n = 5 ] && { echo "{\"frame\":5,\"failed\":\"tired\"}"; continue; };`:                             "5 failedcrashed",
		`[ $n = 5 ] && exit 13;`: "5 failedlicence-lost",
		`[ $n = 5 ] && exit 0;`:  "5 failedcrashed",
		`[ $n = 5 ] && out=/dev/null; echo "{\"frame\":77,\"finished\":true}"; echo "{not json";`: "5 failedbad-picture",
	} {
		a, s := stays(t, each)
		assert.Equal(t, []string{"3 done", want}, s.begin(t, a, 3, 5, 6), each)
	}
}

func TestOneThatStaysOpenIsGivenBackAndTakenBack(t *testing.T) {
	t.Parallel()
	a, s := stays(t, "[ $n = 5 ] && sleep 60;")
	s.onResult = func(frame int) {
		if frame == 3 {
			a.revoke(api.Held{Lease: 5, Fence: 1})
		}
	}
	assert.Equal(t, []string{"3 done"}, s.begin(t, a, 3, 5))
	a, s = stays(t, "while [ $n = 4 ] && ! [ -e $(dirname $PICTURE)/go ]; do sleep 0.02; done;")
	s.onResult = func(frame int) {
		if frame == 3 { // while 4 is being rendered
			a.revoke(api.Held{Lease: 5, Fence: 1})
			assert.NoError(t, os.WriteFile(filepath.Join(a.Scenes, "go"), nil, 0o600))
		}
	}
	assert.Equal(t, []string{"3 done", "4 done", "6 done"}, s.begin(t, a, 3, 4, 5, 6), "the one behind it is rendered all the same")
	assert.Equal(t, "opened", opened(t, a))
}

func TestARendererThatHoldsTooMuchMemoryIsEnded(t *testing.T) {
	t.Parallel()
	a, s := starting(t, `(x=$(head -c 60000000 /dev/zero | tr "\0" a); sleep 60; :) & sleep 60; :`, "")
	l := a.Launchers["x"]
	l.MemoryGB = 0.05
	a.Launchers["x"] = l
	assert.Equal(t, []string{"3 failedout-of-memory"}, s.begin(t, a, 3))
}
