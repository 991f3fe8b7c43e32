package agent

import (
	"encoding/json"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/api"
)

// depot is a service that only has a package to give. What goes wrong is set by chunk.
type depot struct {
	mu       sync.Mutex
	files    []api.PackageFile
	chunks   map[string]string
	asked    map[string]int
	broken   map[string]int // how often a chunk is answered with an error first
	told     []api.FetchedPackageJSONBody
	replaced map[string]string // what is sent in a chunk's place
}

func newDepot(t *testing.T, files map[string][]string) (*Agent, *depot) {
	t.Helper()
	d := &depot{chunks: map[string]string{}, asked: map[string]int{}, broken: map[string]int{}, replaced: map[string]string{}}
	for path, parts := range files {
		file := api.PackageFile{Path: path}
		for _, p := range parts {
			d.chunks[hash([]byte(p))] = p
			file.Chunks = append(file.Chunks, hash([]byte(p)))
			file.Size += int64(len(p))
		}
		d.files = append(d.files, file)
	}
	server := httptest.NewServer(d)
	t.Cleanup(server.Close)
	a := someAgent(t)
	a.Service, a.Log, a.factor = server.URL, slog.New(slog.DiscardHandler), 60
	require.NoError(t, a.use(credential{Token: "t"}))
	t.Cleanup(a.work.Wait)
	return a, d
}

func (d *depot) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	d.mu.Lock()
	defer d.mu.Unlock()
	last := r.URL.Path[strings.LastIndex(r.URL.Path, "/")+1:]
	switch {
	case r.Method == http.MethodGet && d.chunks[last] != "":
		d.asked[last]++
		if d.broken[last] > 0 {
			d.broken[last]--
			http.Error(w, "not now", http.StatusServiceUnavailable)
			return
		}
		data := d.chunks[last]
		if other, wrong := d.replaced[last]; wrong {
			data = other
		}
		_, _ = fmt.Fprint(w, data)
	case r.Method == http.MethodGet:
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(api.Package{Files: d.files})
	default:
		var body api.FetchedPackageJSONBody
		_ = json.NewDecoder(r.Body).Decode(&body)
		d.told = append(d.told, body)
		w.WriteHeader(http.StatusNoContent)
	}
}

// fetches gets the scene folder of a run's shot, fetching its package.
func fetches(t *testing.T, a *Agent, run uuid.UUID) (string, error) {
	t.Helper()
	return a.scenes(t.Context(), api.Lease{Run: run, Shot: "orrery-020", Package: true})
}

func TestAPackageIsFetchedOnceAndOnlyWhatIsMissing(t *testing.T) {
	a, d := newDepot(t, map[string][]string{"gears.yaml": {"the first part, ", "the second"}, "tex/brass.txt": {"the first part, "}})
	run := uuid.New()
	folder, err := fetches(t, a, run)
	require.NoError(t, err)
	data, err := os.ReadFile(filepath.Join(folder, "gears.yaml"))
	require.NoError(t, err)
	assert.Equal(t, "the first part, the second", string(data))
	data, err = os.ReadFile(filepath.Join(folder, "tex", "brass.txt"))
	require.NoError(t, err)
	assert.Equal(t, "the first part, ", string(data))
	for sum, n := range d.asked {
		assert.Equal(t, 1, n, "chunk %s of two files is fetched once", d.chunks[sum])
	}
	again, err := fetches(t, a, run)
	require.NoError(t, err)
	assert.Equal(t, folder, again)
	require.Len(t, d.told, 1)
	assert.EqualValues(t, len("the first part, the second"), d.told[0].Bytes, "what the line carried, not what was assembled")

	// Another run of the same files has them already.
	_, err = fetches(t, a, uuid.New())
	require.NoError(t, err)
	for _, n := range d.asked {
		assert.Equal(t, 1, n)
	}
	assert.EqualValues(t, 0, d.told[1].Bytes)
}

func TestWithoutAPackageTheHostsOwnFolderHoldsTheScene(t *testing.T) {
	a := someAgent(t)
	folder, err := a.scenes(t.Context(), api.Lease{Shot: "orrery-020"})
	require.NoError(t, err)
	assert.Equal(t, a.Scenes, folder)
}

func TestAServiceThatStumblesIsAskedAgain(t *testing.T) {
	a, d := newDepot(t, map[string][]string{"gears.yaml": {"teeth"}})
	d.broken[hash([]byte("teeth"))] = 2
	_, err := fetches(t, a, uuid.New())
	require.NoError(t, err)
	assert.Equal(t, 3, d.asked[hash([]byte("teeth"))])
}

func TestAChunkThatIsNotWhatItsNameSaysIsNotUsed(t *testing.T) {
	a, d := newDepot(t, map[string][]string{"gears.yaml": {"teeth"}})
	sum := hash([]byte("teeth"))
	d.replaced[sum] = "fangs"
	run := uuid.New()
	_, err := fetches(t, a, run)
	require.ErrorContains(t, err, "arrived as another")
	assert.NoFileExists(t, filepath.Join(a.StateDir, "packages", run.String()+"-orrery-020", "gears.yaml"))
	delete(d.replaced, sum)
	_, err = fetches(t, a, run)
	assert.NoError(t, err, "the next lease tries anew")

	// A chunk that rots on the disk is fetched again.
	require.NoError(t, os.WriteFile(filepath.Join(a.StateDir, "chunks", sum), []byte("rust"), 0o600))
	other := uuid.New()
	folder, err := fetches(t, a, other)
	require.NoError(t, err)
	data, err := os.ReadFile(filepath.Join(folder, "gears.yaml"))
	require.NoError(t, err)
	assert.Equal(t, "teeth", string(data))
}

func TestAPackageStaysInItsFolder(t *testing.T) {
	for _, path := range []string{"../gears.yaml", "/etc/gears.yaml", "a/../../gears.yaml"} {
		a, _ := newDepot(t, map[string][]string{path: {"teeth"}})
		_, err := fetches(t, a, uuid.New())
		assert.ErrorContains(t, err, "below the folder", path)
	}
}

// The line may be limited; what it took is told by the service's clock.
func TestALineThatIsLimitedIsSlow(t *testing.T) {
	a, d := newDepot(t, map[string][]string{"gears.yaml": {strings.Repeat("tooth ", 100)}})
	a.LinkMBps = 0.0001 // a hundred bytes a second: six seconds of the service's, a tenth of ours
	_, err := fetches(t, a, uuid.New())
	require.NoError(t, err)
	require.Len(t, d.told, 1)
	assert.GreaterOrEqual(t, d.told[0].Seconds, 6.0)
	assert.Less(t, d.told[0].Seconds, time.Hour.Seconds())
}

// Many leases of one shot that come at once wait for one fetching.
func TestManyLeasesFetchAPackageOnce(t *testing.T) {
	a, d := newDepot(t, map[string][]string{"gears.yaml": {"teeth"}})
	run := uuid.New()
	var group sync.WaitGroup
	for range 8 {
		group.Go(func() {
			_, err := a.scenes(t.Context(), api.Lease{Run: run, Shot: "orrery-020", Package: true})
			assert.NoError(t, err)
		})
	}
	group.Wait()
	assert.Equal(t, map[string]int{hash([]byte("teeth")): 1}, d.asked)
}
