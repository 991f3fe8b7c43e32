package agent

import (
	"compress/gzip"
	"context"
	"encoding/json"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/api"
	"rotanex.example/launchers"
)

// takingIn is a service that takes in what an agent hands in.
type takingIn struct {
	mu       sync.Mutex
	results  []string // frame and outcome
	measured map[int]api.Measured
	logs     map[int]string
	lost     []int // leases that it does not know any more
	onResult func(frame int)
}

func (s *takingIn) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	part := strings.Split(r.URL.Path, "/")
	if len(part) < 7 {
		_, _ = w.Write([]byte("{}"))
		return
	}
	lease, _ := strconv.Atoi(part[len(part)-3])
	s.mu.Lock()
	lost := slices.Contains(s.lost, lease)
	s.mu.Unlock()
	if lost {
		w.WriteHeader(http.StatusConflict)
		return
	}
	if part[len(part)-1] == "log" {
		plain, _ := gzip.NewReader(r.Body)
		text, _ := io.ReadAll(plain)
		s.mu.Lock()
		s.logs[lease] = string(text)
		s.mu.Unlock()
	}
	if part[len(part)-1] == "result" {
		var body api.Result
		_ = json.NewDecoder(r.Body).Decode(&body)
		s.mu.Lock()
		s.results = append(s.results, fmt.Sprintf("%d %s%s", lease, body.Outcome, body.Cause))
		s.measured[lease] = body.Measured
		s.mu.Unlock()
		if s.onResult != nil {
			s.onResult(lease)
		}
	}
	w.WriteHeader(http.StatusNoContent)
}

// starting is an agent with a launcher that is a shell script, which finds a picture at $PICTURE.
func starting(t *testing.T, script, several string) (*Agent, *takingIn) {
	t.Helper()
	a := lending(t, 0, &Desk{Idle: time.Minute, Return: GiveBack})
	a.StateDir, a.Scenes = t.TempDir(), t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(a.Scenes, "scene"), nil, 0o600))
	img := image.NewNRGBA(image.Rect(0, 0, 8, 8))
	for i := range 64 {
		img.Set(i%8, i/8, color.NRGBA{uint8(i * 4), uint8(255 - i*3), 90, 255})
	}
	picture := filepath.Join(a.Scenes, "picture.png")
	f, err := os.Create(picture)
	require.NoError(t, err)
	require.NoError(t, png.Encode(f, img))
	require.NoError(t, f.Close())
	l, err := launchers.Parse([]byte("format: rotanex-launcher-1\nname: x\nprogram: sh\noutput: png\nopened: ^open\n" +
		"args: ['-c', '" + script + "', x, '{output}', '{frames}']\nenvironment: { PICTURE: '" + picture + "' }\ncauses: [{ cause: licence-lost, exit: [13] }]\n" + several))
	require.NoError(t, err)
	a.Launchers = map[string]launchers.Launcher{"x": l}
	s := &takingIn{measured: map[int]api.Measured{}, logs: map[int]string{}}
	server := httptest.NewServer(s)
	t.Cleanup(server.Close)
	a.Service = server.URL
	require.NoError(t, a.use(credential{}))
	return a, s
}

// begin leases frames, each under its own number, and waits until the agent has none in hand.
func (s *takingIn) begin(t *testing.T, a *Agent, frames ...int) []string {
	t.Helper()
	var all []api.Lease
	for _, f := range frames {
		all = append(all, api.Lease{Lease: int64(f), Fence: 1, Shot: "lamp", Frame: f, Crew: "g1", Devices: []string{"g1"}, Scene: "scene", Launcher: "x", Width: 8, Height: 8, Start: 7})
	}
	a.begin(t.Context(), all)
	a.work.Wait()
	assert.Empty(t, a.held())
	assert.Empty(t, a.starts)
	left, err := os.ReadDir(filepath.Join(a.StateDir, "work"))
	require.NoError(t, err)
	assert.Empty(t, left)
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.results
}

const (
	saying = "several: { files: 'frame.(?P<frame>\\d+)$', finished: '^finished (?P<frame>\\d+)' }\n"
	silent = "several: { files: 'frame.(?P<frame>\\d+)$' }\n"
	// each renders the frames one after another.
	each = `echo stage; sleep 0.3; echo open; for n in $(echo $2 | tr , " "); do %s cp $PICTURE $(dirname $1)/frame.$n; echo finished $n; done`
)

func TestAStartHandsEachFrameIn(t *testing.T) {
	t.Parallel()
	for name, several := range map[string]string{"it says when one is finished": saying, "its files tell": silent} {
		a, s := starting(t, fmt.Sprintf(each, "sleep 0.1;"), several)
		assert.Equal(t, []string{"3 done", "5 done", "6 done"}, s.begin(t, a, 3, 5, 6), name)
		sum := 0.0
		for _, m := range s.measured {
			sum += m.OpeningPartS
			assert.InDelta(t, m.OpeningS/3, m.OpeningPartS, 1e-9, "the frames share it")
			assert.GreaterOrEqual(t, m.OpeningS, 0.3)
			assert.GreaterOrEqual(t, m.Seconds, m.OpeningPartS)
			assert.Less(t, m.Seconds-m.OpeningPartS, m.OpeningS+5)
		}
		assert.InDelta(t, s.measured[3].OpeningS, sum, 1e-9)
	}
}

func TestACrashCostsTheFrameThatItHappenedIn(t *testing.T) {
	t.Parallel()
	a, s := starting(t, fmt.Sprintf(each, "[ $n = 5 ] && exit 13;"), saying)
	assert.Equal(t, []string{"3 done", "5 failedlicence-lost"}, s.begin(t, a, 3, 5, 6), "nothing is said of the one behind it")
	assert.Equal(t, map[int]string{3: "stage\nopen\nfinished 3\n", 5: ""}, map[int]string{3: s.logs[3], 5: s.logs[5]}, "each has what was said while it was rendered")
	assert.InDelta(t, s.measured[3].OpeningS, s.measured[3].OpeningPartS+s.measured[5].OpeningPartS, 1e-9, "it has what nobody else has of opening")
}

func TestAFrameWithoutAPictureEndsTheStart(t *testing.T) {
	t.Parallel()
	a, s := starting(t, fmt.Sprintf(each, "[ $n = 5 ] && continue;"), saying)
	assert.Equal(t, []string{"3 done", "5 failedbad-picture"}, s.begin(t, a, 3, 5))
}

func TestWhatIsTakenBackIsNotRendered(t *testing.T) {
	t.Parallel()
	a, s := starting(t, fmt.Sprintf(each, "while [ $n = 4 ] && ! [ -e $(dirname $PICTURE)/go ]; do sleep 0.02; done; [ $n = 5 ] && sleep 60;"), saying)
	s.onResult = func(frame int) {
		if frame == 3 { // while 4 is being rendered
			a.revoke(api.Held{Lease: 5, Fence: 1})
			a.revoke(api.Held{Lease: 6, Fence: 1})
			assert.NoError(t, os.WriteFile(filepath.Join(a.Scenes, "go"), nil, 0o600))
		}
	}
	assert.Equal(t, []string{"3 done", "4 done"}, s.begin(t, a, 3, 4, 5, 6), "it ends after the frame in hand")
}

func TestALeaseThatIsLostIsNoFailure(t *testing.T) {
	t.Parallel()
	a, s := starting(t, fmt.Sprintf(each, ""), saying)
	s.lost = []int{5}
	assert.Equal(t, []string{"3 done", "6 done"}, s.begin(t, a, 3, 5, 6))
}

func TestADeskThatIsTakenBackEndsAStart(t *testing.T) {
	t.Parallel()
	a, s := starting(t, fmt.Sprintf(each, "[ $n = 5 ] && sleep 60;"), saying)
	s.onResult = func(frame int) {
		if frame == 3 {
			a.mu.Lock()
			defer a.mu.Unlock()
			for x := range a.starts {
				x.giveBack("its owner took it back")
			}
		}
	}
	assert.Equal(t, []string{"3 done", "5 given-back"}, s.begin(t, a, 3, 5, 6))
}

func TestALauncherOfOneFrameHasAStartForEach(t *testing.T) {
	t.Parallel()
	a, s := starting(t, `echo open; cp $PICTURE $1; echo $2 >> $(dirname $PICTURE)/started`, "")
	assert.Equal(t, []string{"3 done", "5 done"}, s.begin(t, a, 3, 5))
	started, err := os.ReadFile(filepath.Join(a.Scenes, "started"))
	require.NoError(t, err)
	assert.Equal(t, "3\n5\n", string(started))
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	a.begin(ctx, []api.Lease{{Lease: 8, Fence: 1, Launcher: "x", Scene: "scene"}})
	a.work.Wait()
	assert.Len(t, s.results, 2, "an agent that ends says nothing")
}
