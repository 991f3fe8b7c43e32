package rental

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jonboulle/clockwork"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/core/preflight"
	"rotanex.example/core/pricing"
	"rotanex.example/core/stock"
	"rotanex.example/providers"
	"rotanex.example/service/access"
	"rotanex.example/service/hosts"
	"rotanex.example/service/pictures"
	"rotanex.example/service/queue"
	"rotanex.example/service/renderlogs"
	"rotanex.example/service/standing"
	"rotanex.example/service/states"
	"rotanex.example/service/store"
	"rotanex.example/service/teststage"
)

var six = teststage.Six

// solo is an offer whose servers boot for ten minutes and shut down in one.
var solo = stock.Offer{
	Name: "tern-solo", Source: "tern", MaxServers: 3, PriceH: pricing.MustMoney("1.20"), IncrementS: 3600, BootS: 600, ShutdownS: 60,
	CPU: stock.CPU{Model: "Keel 24", Cores: 24}, MemoryGB: 128,
}

// let is rental over a database of its own, with one run of one server that is booked from
// six to seven, and a source that is asked over HTTP. Its jobs are not carried out unless
// the test does so.
type let struct {
	*Rental
	t     *testing.T
	db    *store.Store
	wall  *clockwork.FakeClock
	run   uuid.UUID
	calls atomic.Int32
}

func newLet(t *testing.T, source http.HandlerFunc) *let {
	t.Helper()
	t.Parallel()
	on := teststage.New(t)
	l := &let{t: t, db: on.DB, wall: on.Wall, run: uuid.New()}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { l.calls.Add(1); source(w, r) }))
	t.Cleanup(server.Close)
	j, src := on.Jobs(t), on.Source(t, "tern", stock.RentedSource, server.URL)
	kept := pictures.New(on.Blobs)
	q := queue.New(l.db, on.Clock, on.Feed, kept, on.Log)
	h := hosts.New(hosts.Config{Store: l.db, Clock: on.Clock, Feed: on.Feed, Beat: queue.Beat, Currency: "EUR", Zone: time.UTC})
	l.Rental = New(Config{
		Store: l.db, Clock: on.Clock, Feed: on.Feed, Hosts: h, Access: access.New(l.db, on.Clock, false, false), Sources: src, Jobs: j,
		Standing: standing.New(l.db, on.Clock, on.Feed, q, renderlogs.New(l.db, on.Blobs)), Address: "http://rotanex.example", Owner: "us", Log: on.Log,
	})
	require.NoError(t, l.db.Create(&hosts.Offer{Name: solo.Name, Source: solo.Source, Spec: solo}).Error)
	require.NoError(t, l.db.Exec("INSERT INTO runs (id, kind, request, state, tries, created_at, cap) VALUES ($1, 'run', '', 'running', 3, $2, 5)", l.run, six).Error)
	require.NoError(t, Add(l.db.DB, []Server{{RunID: l.run, ID: "tern-solo#1", Offer: solo.Name, Host: "tern-solo-1", State: "planned", FromAt: six, ToAt: six.Add(time.Hour), PaidAt: six.Add(time.Hour)}}))
	return l
}

func (l *let) exec(statement string, args ...any) {
	l.t.Helper()
	require.NoError(l.t, l.db.Exec(statement, args...).Error)
}

// heard puts the server's host into the stock, with an agent that spoke so long ago.
func (l *let) heard(ago time.Duration) {
	seen, boot := l.wall.Now().Add(-ago), uuid.New()
	require.NoError(l.t, l.db.Create(&hosts.Host{
		Name: "tern-solo-1", Source: "tern", Spec: solo.Server("tern-solo-1"), Server: true, Launchers: []string{}, Findings: []string{}, Missing: []string{},
		Renderers: []preflight.Renderer{}, Boot: &boot, AgentSeen: &seen,
	}).Error)
}

func (l *let) server() (s Server) {
	l.t.Helper()
	require.NoError(l.t, l.db.Where("run_id = ?", l.run).Take(&s).Error)
	return s
}

// Each state, what happens, and where that leads: the table of docs/sources.md.
func TestAServersStates(t *testing.T) {
	at := func(state states.Server) func(*let) {
		return func(l *let) {
			l.exec("UPDATE servers SET state = $1, started_at = CASE WHEN $1 <> 'planned' THEN from_at END", state)
		}
	}
	runIs := func(state states.Run) func(*let) {
		return func(l *let) { l.exec("UPDATE runs SET state = $1", state) }
	}
	after := func(d time.Duration) func(*let) { return func(l *let) { l.wall.Advance(d) } }
	heard := func(ago time.Duration) func(*let) { return func(l *let) { l.heard(ago) } }
	for name, c := range map[string]struct {
		given   []func(*let)
		becomes states.Server
		trouble string
		sends   string
	}{
		"before its time":               {[]func(*let){at(states.ServerPlanned), func(l *let) { l.exec("UPDATE servers SET from_at = from_at + interval '1 minute'") }}, states.ServerPlanned, "", ""},
		"its time has come":             {[]func(*let){at(states.ServerPlanned)}, states.ServerRequested, "", makeServer},
		"its run was cancelled before":  {[]func(*let){at(states.ServerPlanned), runIs(states.RunCancelled)}, states.ServerNotStarted, "", ""},
		"its money would be too much":   {[]func(*let){at(states.ServerPlanned), func(l *let) { l.exec("UPDATE runs SET cap = 1") }}, states.ServerNotStarted, "cap", ""},
		"it boots":                      {[]func(*let){at(states.ServerStarting), after(5 * time.Minute)}, states.ServerStarting, "", ""},
		"its agent is heard":            {[]func(*let){at(states.ServerStarting), after(5 * time.Minute), heard(0)}, states.ServerUp, "", keepImage},
		"it never comes up":             {[]func(*let){at(states.ServerStarting), after(40 * time.Minute)}, states.ServerStopping, "it was not up 40m0s after it was asked for", ""},
		"its run ends while it boots":   {[]func(*let){at(states.ServerStarting), runIs(states.RunCancelled)}, states.ServerStopping, "", ""},
		"it renders":                    {[]func(*let){at(states.ServerUp), after(20 * time.Minute), heard(time.Second)}, states.ServerUp, "", ""},
		"its run pauses":                {[]func(*let){at(states.ServerUp), runIs(states.RunPaused), after(20 * time.Minute), heard(time.Second)}, states.ServerUp, "", ""},
		"its agent says nothing":        {[]func(*let){at(states.ServerUp), after(20 * time.Minute), heard(30 * time.Second)}, states.ServerUp, "", lookAtServer},
		"its agent is gone":             {[]func(*let){at(states.ServerUp), after(20 * time.Minute), heard(4 * time.Minute)}, states.ServerStopping, "could not be reached", ""},
		"its run is over":               {[]func(*let){at(states.ServerUp), runIs(states.RunComplete), heard(time.Second)}, states.ServerStopping, "", ""},
		"its paid time ends":            {[]func(*let){at(states.ServerUp), after(59 * time.Minute), heard(time.Second)}, states.ServerStopping, "", ""},
		"it has nothing left to render": {[]func(*let){at(states.ServerStopping), heard(time.Second)}, states.ServerEnding, "", endServer},
		"it finishes what it renders": {[]func(*let){at(states.ServerStopping), heard(time.Second), func(l *let) {
			l.exec(`INSERT INTO frames (run_id, shot, frame, state, host) VALUES ($1, 'coda-060', 1, 'rendering', 'tern-solo-1')`, l.run)
		}}, states.ServerStopping, "", ""},
	} {
		t.Run(name, func(t *testing.T) {
			l := newLet(t, http.NotFound)
			for _, g := range c.given {
				g(l)
			}
			_, err := l.step(t.Context(), false, []string{})
			require.NoError(t, err)
			got := l.server()
			assert.Equal(t, c.becomes, got.State)
			assert.Contains(t, got.Trouble, c.trouble)
			sent, err := store.Column[string](l.db.Raw("SELECT args->>'what' FROM river_job"))
			require.NoError(t, err)
			if c.sends == "" {
				assert.Empty(t, sent)
			} else {
				assert.Equal(t, []string{c.sends}, sent)
			}
			assert.Zero(t, l.calls.Load(), "a step asks nobody: its job does")
		})
	}
}

// After the service was away nobody is given up for silence until agents had time to speak.
func TestASilentServerIsLeftWhileTheServiceWasAway(t *testing.T) {
	l := newLet(t, http.NotFound)
	l.exec("UPDATE servers SET state = 'up', started_at = from_at")
	l.wall.Advance(20 * time.Minute)
	l.heard(4 * time.Minute)
	require.NoError(t, l.Sweep(t.Context(), true))
	assert.Equal(t, states.ServerUp, l.server().State)
	require.NoError(t, l.Sweep(t.Context(), false))
	assert.NotEqual(t, states.ServerUp, l.server().State)
}

// What is asked of a source may be asked again, and what it charges is entered once.
func TestWhatASourceIsAsked(t *testing.T) {
	var asked []string
	charge := pricing.MustMoney("2.40")
	l := newLet(t, func(w http.ResponseWriter, r *http.Request) {
		asked = append(asked, r.Method+" "+strings.TrimPrefix(r.URL.Path, "/servers/tern-solo-1"))
		if r.Method == http.MethodGet {
			_ = json.NewEncoder(w).Encode(providers.Server{Name: "tern-solo-1", State: providers.Stopped, Metered: 4000, Charge: &charge})
		}
	})
	_, err := l.step(t.Context(), false, []string{})
	require.NoError(t, err)
	key := l.run.String() + " tern-solo#1"
	for range 2 {
		require.NoError(t, l.make(t.Context(), key))
	}
	assert.Equal(t, states.ServerStarting, l.server().State)
	assert.Equal(t, []string{"PUT "}, asked, "one that is made is not asked for again")
	l.exec("UPDATE servers SET state = 'ending'")
	asked = nil
	for range 2 {
		require.NoError(t, l.end(t.Context(), key))
	}
	assert.Equal(t, states.ServerStopped, l.server().State)
	assert.Equal(t, []string{"POST /stop", "GET ", "DELETE ", "DELETE "}, asked)
	sum, err := l.sources.Charged(t.Context(), "tern")
	require.NoError(t, err)
	assert.Equal(t, "2.40", sum.String(), "what its meter said is entered once")
}

// A source that refuses is not asked again; one that cannot be reached is.
func TestASourceThatWillNotAndOneThatCannot(t *testing.T) {
	status := http.StatusConflict
	l := newLet(t, func(w http.ResponseWriter, _ *http.Request) { http.Error(w, "no more of those today", status) })
	l.exec("UPDATE servers SET state = 'requested', started_at = from_at")
	key := l.run.String() + " tern-solo#1"
	status = http.StatusBadGateway
	assert.ErrorContains(t, l.make(t.Context(), key), "502")
	assert.Equal(t, states.ServerRequested, l.server().State)
	row, _, err := l.sources.Find(t.Context(), "tern")
	require.NoError(t, err)
	assert.Contains(t, row.Fault, "502")
	status = http.StatusConflict
	require.NoError(t, l.make(t.Context(), key))
	assert.Equal(t, states.ServerNotStarted, l.server().State)
	assert.Contains(t, l.server().Trouble, "no more of those today")
	assert.Nil(t, l.server().StartedAt)
}
