package farms

import (
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jonboulle/clockwork"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/core/frames"
	"rotanex.example/core/pricing"
	"rotanex.example/core/stock"
	"rotanex.example/providers"
	"rotanex.example/service/bookings"
	"rotanex.example/service/hosts"
	"rotanex.example/service/packages"
	"rotanex.example/service/pictures"
	"rotanex.example/service/queue"
	"rotanex.example/service/renderlogs"
	"rotanex.example/service/standing"
	"rotanex.example/service/states"
	"rotanex.example/service/store"
	"rotanex.example/service/teststage"
)

var six = teststage.Six

var ebb = stock.Farm{
	Name: "ebb", Source: "saltmarsh", Nodes: 4, LeadS: 600, CPU: stock.CPU{Model: "Keel 24", Cores: 24}, MemoryGB: 64, Launchers: []string{"simulated"},
	Work: pricing.Work{NodeHour: pricing.MustMoney("1.50"), MinimumCharge: pricing.MustMoney("1.00")},
}

// field is farms over a database of its own, with one run of four frames that are booked at
// one farm, which answers as the test says.
type field struct {
	*Farms
	t    *testing.T
	db   *store.Store
	wall *clockwork.FakeClock
	run  uuid.UUID
	id   uuid.UUID

	mu     sync.Mutex
	asked  []string
	status providers.JobStatus
	refuse int  // the HTTP status of every answer; 0: it answers
	keeps  bool // what it has: it takes no frames back
	ended  bool // its job, it says, when it is to be ended

	picture []byte // of each of its frames
}

func (f *field) serve(w http.ResponseWriter, r *http.Request) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.asked = append(f.asked, r.Method+" "+strings.ReplaceAll(r.URL.Path, f.id.String(), "JOB"))
	switch {
	case f.refuse != 0:
		http.Error(w, "not with us", f.refuse)
	case r.Method == http.MethodDelete && f.ended:
		http.Error(w, "there is none to end", http.StatusNotFound)
	case strings.HasSuffix(r.URL.Path, "/withdraw") && f.keeps:
		http.Error(w, "we do not", http.StatusMethodNotAllowed)
	case strings.HasSuffix(r.URL.Path, "/withdraw"):
		_, _ = io.Copy(w, r.Body)
	case r.Method == http.MethodGet && strings.Contains(r.URL.Path, "/frames/"):
		_, _ = w.Write(f.picture)
	case r.Method == http.MethodGet:
		_ = json.NewEncoder(w).Encode(f.status)
	default:
		_, _ = w.Write([]byte("[]"))
	}
}

func newField(t *testing.T) *field {
	t.Helper()
	t.Parallel()
	on := teststage.New(t)
	f := &field{t: t, db: on.DB, wall: on.Wall, run: uuid.New(), id: uuid.New()}
	server := httptest.NewServer(http.HandlerFunc(f.serve))
	t.Cleanup(server.Close)
	j, src := on.Jobs(t), on.Source(t, "saltmarsh", stock.FarmSource, server.URL)
	kept := pictures.New(on.Blobs)
	q := queue.New(f.db, on.Clock, on.Feed, kept, on.Log)
	f.Farms = New(Config{
		Store: f.db, Clock: on.Clock, Feed: on.Feed, Queue: q, Standing: standing.New(f.db, on.Clock, on.Feed, q, renderlogs.New(f.db, on.Blobs)), Pictures: kept, Sources: src,
		Packages: packages.New(f.db, on.Clock, on.Blobs, src), Jobs: j, Owner: "us", Log: on.Log,
	})
	require.NoError(t, f.db.Create(&hosts.Farm{Name: ebb.Name, Source: ebb.Source, Spec: ebb}).Error)
	require.NoError(t, f.db.Exec("INSERT INTO runs (id, kind, request, state, tries, created_at, cap) VALUES ($1, 'run', '', 'running', 3, $2, 50)", f.run, six).Error)
	require.NoError(t, f.db.Exec(`INSERT INTO run_shots (run_id, shot, spec) VALUES ($1, 'coda-060', '{"name": "coda-060", "scene": "coda.yaml", "width": 64, "height": 36, "launcher": "simulated"}')`, f.run).Error)
	booked := []bookings.Booking{{RunID: f.run, Shot: "coda-060", Host: "ebb", Crew: "cpu", Devices: []string{}, Frames: 4, StartAt: six, EndAt: six.Add(time.Hour), FrameS: 60, Open: true, Farm: true, Nodes: 4}}
	require.NoError(t, queue.Add(f.db.DB, f.run, queue.Asked{Shot: "coda-060", Frames: frames.Of(1, 2, 3, 4)}))
	require.NoError(t, bookings.Add(f.db.DB, booked))
	require.NoError(t, Add(f.db.DB, []Job{{ID: f.id, RunID: f.run, OrderID: uuid.New(), Shot: "coda-060", Farm: "ebb", Source: "saltmarsh", Crew: "cpu", Frames: 4, State: "planned", FromAt: six}}, booked))
	return f
}

// at brings the job into a state by the steps that lead there.
func (f *field) at(state string) {
	f.t.Helper()
	if state == "planned" {
		return
	}
	f.goes("sending")
	if state == "sending" {
		return
	}
	f.goes("analysing")
	if state != "analysing" {
		f.says(state)
		f.goes(state)
	}
}

// says lets the farm say that the job is in a state, with frames as they are told.
func (f *field) says(state string, frames ...providers.JobFrame) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.status = providers.JobStatus{Name: f.id.String(), State: state, Frames: frames, NodeSeconds: 240, Charge: pricing.MustMoney("1.00")}
}

// goes does one step, and asserts the state that the job has then.
func (f *field) goes(state string) {
	f.t.Helper()
	require.NoError(f.t, f.step(f.t.Context(), f.id.String()))
	require.EqualValues(f.t, state, f.job().State)
}

func (f *field) job() (j Job) {
	f.t.Helper()
	require.NoError(f.t, f.db.Where("id = ?", f.id).Take(&j).Error)
	return j
}

// frames counts the run's frames by state.
func (f *field) frames(state string) (n int) {
	f.t.Helper()
	require.NoError(f.t, f.db.Raw("SELECT count(*) FROM frames WHERE run_id = $1 AND state = $2", f.run, state).Row().Scan(&n))
	return n
}

func (f *field) cancel() {
	require.NoError(f.t, f.db.Exec("UPDATE runs SET state = 'cancelled'").Error)
}

func TestAJobsStates(t *testing.T) {
	for name, c := range map[string]struct {
		from, says string // what the farm says of the job
		do         func(*field)
		becomes    string
		trouble    string
		waiting    int // frames that wait for somebody again
	}{
		"its time has come":               {from: "planned", becomes: "sending"},
		"its run was cancelled before":    {from: "planned", do: (*field).cancel, becomes: "not-started", waiting: 4},
		"its money would be too much":     {from: "planned", do: func(f *field) { require.NoError(f.t, f.db.Exec("UPDATE runs SET cap = 0.50").Error) }, becomes: "not-started", trouble: "cap", waiting: 4},
		"it is handed in":                 {from: "sending", becomes: "analysing"},
		"the farm will not have it":       {from: "sending", do: func(f *field) { f.refuse = http.StatusUnprocessableEntity }, becomes: "rejected", trouble: "not with us", waiting: 4},
		"its run is cancelled":            {from: "analysing", says: providers.Analysing, do: (*field).cancel, becomes: "closing"},
		"it queues":                       {from: "analysing", says: providers.Queued, becomes: "queued"},
		"the analysis rejects it":         {from: "analysing", says: providers.Rejected, becomes: "rejected", trouble: "the analysis found", waiting: 4},
		"the farm forgets it":             {from: "queued", do: func(f *field) { f.refuse = http.StatusNotFound }, becomes: "rejected", trouble: "does not know the job", waiting: 4},
		"its proof frames are rendered":   {from: "queued", says: providers.Proofing, becomes: "proofing"},
		"its proof frames wait":           {from: "proofing", says: providers.Held, becomes: "held"},
		"a person has not looked yet":     {from: "held", says: providers.Held, becomes: "held"},
		"a person accepts":                {from: "held", says: providers.Held, do: func(f *field) { f.judge(true) }, becomes: "rendering"},
		"a person refuses":                {from: "held", says: providers.Held, do: func(f *field) { f.judge(false) }, becomes: "refused", trouble: "refused", waiting: 4},
		"the farm ends it by itself":      {from: "rendering", says: providers.Ended, becomes: "closing", trouble: "the farm ended the job", waiting: 4},
		"it renders on":                   {from: "rendering", says: providers.Rendering, becomes: "rendering"},
		"what it had is done by somebody": {from: "rendering", says: providers.Rendering, do: func(f *field) { require.NoError(f.t, f.queue.GiveBack(f.t.Context(), f.holder(), "")) }, becomes: "closing", waiting: 4},
	} {
		t.Run(name, func(t *testing.T) {
			f := newField(t)
			f.at(c.from)
			f.says(c.says)
			if c.do != nil {
				c.do(f)
			}
			f.goes(c.becomes)
			assert.Contains(t, f.job().Trouble, c.trouble)
			assert.Equal(t, c.waiting, f.frames("waiting"))
		})
	}
}

func (f *field) judge(accept bool) {
	_, err := Judge(f.db.DB, f.id, accept)
	require.NoError(f.t, err)
}

func (f *field) holder() queue.Holder {
	j, found, err := f.find(f.t.Context(), f.id.String())
	require.NoError(f.t, err)
	require.True(f.t, found)
	return j.holder()
}

// A frame that fails there is rendered there again, and after that by somebody else; what
// the job cost is entered once, when it is closed.
func TestAJobIsClosedWithWhatItCost(t *testing.T) {
	f := newField(t)
	f.at("rendering")
	f.says(providers.Rendering, providers.JobFrame{Frame: 1, State: providers.FrameFailed, Tries: 1, Cause: "crashed"}, providers.JobFrame{Frame: 2, State: providers.FrameFailed, Tries: 99, Cause: "crashed"})
	f.asked = nil
	f.goes("rendering")
	assert.Contains(t, f.asked, "POST /jobs/JOB/again")
	assert.Equal(t, 1, f.frames("waiting"), "the one that failed too often is somebody else's")
	f.cancel()
	f.goes("closing")
	f.says(providers.Ended)
	f.goes("ended")
	require.NoError(t, f.step(t.Context(), f.id.String()), "looked at again it stays ended")
	sum, err := f.sources.Charged(t.Context(), "saltmarsh")
	require.NoError(t, err)
	assert.Equal(t, "1.00", sum.String())
	assert.InDelta(t, 240, f.job().NodeS, 0)
}

// A farm that cannot be reached is asked again; what it is called is said meanwhile.
func TestAFarmThatCannotBeReachedIsAskedAgain(t *testing.T) {
	f := newField(t)
	f.at("analysing")
	f.refuse = http.StatusBadGateway
	assert.ErrorContains(t, f.step(t.Context(), f.id.String()), "502")
	assert.Equal(t, states.JobAnalysing, f.job().State)
	row, _, err := f.sources.Find(t.Context(), "saltmarsh")
	require.NoError(t, err)
	assert.Contains(t, row.Fault, "502")
	f.refuse = 0
	f.says(providers.Queued)
	f.goes("queued")
	row, _, err = f.sources.Find(t.Context(), "saltmarsh")
	require.NoError(t, err)
	assert.Empty(t, row.Fault)
}

// The sweep sends for jobs whose turn it is, each once in a while, and asks farms that
// nobody asked for long whether they answer.
func TestWhoseTurnItIs(t *testing.T) {
	f := newField(t)
	require.NoError(t, f.Sweep(t.Context()))
	sent, err := store.Column[string](f.db.Raw("SELECT args->>'what' FROM river_job ORDER BY 1"))
	require.NoError(t, err)
	assert.Equal(t, []string{contact, step}, sent)
	require.NoError(t, f.db.Exec("DELETE FROM river_job").Error)
	require.NoError(t, f.Sweep(t.Context()))
	sent, err = store.Column[string](f.db.Raw("SELECT args->>'what' FROM river_job"))
	require.NoError(t, err)
	assert.Empty(t, sent)
	f.wall.Advance(lookEvery)
	require.NoError(t, f.Sweep(t.Context()))
	sent, err = store.Column[string](f.db.Raw("SELECT args->>'what' FROM river_job"))
	require.NoError(t, err)
	assert.Equal(t, []string{step}, sent)
}
