package e2e

import (
	"bytes"
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jonboulle/clockwork"
	"github.com/stretchr/testify/require"

	"rotanex.example/agent"
	"rotanex.example/api"
	"rotanex.example/api/client"
	"rotanex.example/core/pricing"
	"rotanex.example/core/stock"
	"rotanex.example/launchers"
	"rotanex.example/service/app"
	"rotanex.example/service/testdb"
)

// database makes a database that is dropped when the test ends.
func database(t testing.TB) string {
	t.Helper()
	sideBySide(t)
	return testdb.URL(t)
}

// query returns one value of a test's database.
func query[T any](t testing.TB, url, statement string, args ...any) (v T) {
	t.Helper()
	conn, err := pgx.Connect(t.Context(), url)
	require.NoError(t, err)
	defer func() { _ = conn.Close(context.Background()) }()
	require.NoError(t, conn.QueryRow(t.Context(), statement, args...).Scan(&v))
	return v
}

// house is a service with its database, served on loopback.
type house struct {
	t        testing.TB
	client   *http.Client // nil: the usual one
	database string
	blobs    string
	address  string
	token    string
	service  *app.Service
	config   app.Config
	hands    []hand // agents played by hand, which look for the files of shots that are stored
}

type option func(*app.Config)

// faster lets the service's clock run twenty times as fast as life.
func faster(o *app.Config) { o.ClockFactor = 20 }

func withWall(c clockwork.Clock) option { return func(o *app.Config) { o.Wall = c } }

// alones are tests that change what all share, such as the environment.
var alones, besides sync.Map

// alone says that a test is not run beside others; before its house.
func alone(t testing.TB) { alones.Store(t.Name(), true) }

// sideBySide lets a test run beside others from here on: each has a database, a service and
// agents of its own, and most of its time it waits for one of them.
func sideBySide(t testing.TB) {
	one, ok := t.(*testing.T)
	if _, not := alones.Load(t.Name()); !ok || not {
		return
	}
	if _, already := besides.LoadOrStore(t, true); !already {
		one.Parallel()
	}
}

// newHouse starts a service in this process.
func newHouse(t testing.TB, options ...option) *house {
	t.Helper()
	h := &house{t: t, database: database(t), blobs: t.TempDir()}
	c := app.Config{DatabaseURL: h.database, Blobs: h.blobs, Log: slog.New(slog.DiscardHandler), Key: make([]byte, 32), Policy: "off"}
	for _, o := range options {
		o(&c)
	}
	server := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { h.service.Handler.ServeHTTP(w, r) }))
	h.address = "http://" + server.Listener.Addr().String()
	c.Address = h.address
	h.config = c
	service, err := app.Start(t.Context(), c)
	require.NoError(t, err)
	h.service, h.token = service, service.FirstToken
	server.Start()
	t.Cleanup(func() {
		server.CloseClientConnections()
		server.Close()
		h.service.Close()
	})
	return h
}

// restart ends the service and starts another over the same database.
func (h *house) restart() {
	h.t.Helper()
	h.service.Close()
	service, err := app.Start(context.WithoutCancel(h.t.Context()), h.config)
	require.NoError(h.t, err)
	h.service = service
}

// as returns a client with a token.
func (h *house) as(token string) *client.Client {
	h.t.Helper()
	doer := h.client
	if doer == nil {
		doer = http.DefaultClient
	}
	c, err := client.NewClient(h.address+"/api/v1", client.WithHTTPClient(client.Await{Doer: doer}), client.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
		r.Header.Set("Authorization", "Bearer "+token)
		return nil
	}))
	require.NoError(h.t, err)
	return c
}

func (h *house) admin() *client.Client { return h.as(h.token) }

// must returns what a call answered with.
func must[T any](t testing.TB) func(*http.Response, error) T {
	return func(answer *http.Response, err error) T {
		t.Helper()
		v, err := client.Decode[T](answer, err)
		require.NoError(t, err)
		return v
	}
}

// refused asserts that a call was refused with a status, and returns the problem.
func refused(t testing.TB, status int) func(*http.Response, error) *client.Error {
	return func(answer *http.Response, err error) *client.Error {
		t.Helper()
		require.NoError(t, err)
		if status != answer.StatusCode {
			said, _ := io.ReadAll(answer.Body)
			require.Equal(t, status, answer.StatusCode, string(said))
		}
		require.Equal(t, "application/problem+json", answer.Header.Get("Content-Type"))
		var problem *client.Error
		require.ErrorAs(t, client.Check(answer, nil), &problem)
		return problem
	}
}

// Two hosts with simulated devices, and a scene whose frames take an instant.
var (
	bellows = stock.Host{
		Name: "bellows", Source: "loft", CPU: stock.CPU{Model: "Keel 16", Cores: 16, Watts: 140}, MemoryGB: 64,
		Power: stock.Power{PriceKWh: pricing.MustMoney("0.31")},
		Devices: []stock.Device{
			{ID: "g0", Model: "Halyard 24", MemoryGB: 24, Backends: []string{"compute2", "compute1"}, LinkWidth: 16, Watts: 350},
			{ID: "g1", Model: "Halyard 12", MemoryGB: 12, Backends: []string{"compute2", "compute1"}, LinkWidth: 8, Watts: 220},
		},
	}
	eddy = stock.Host{
		Name: "eddy", Source: "loft", CPU: stock.CPU{Model: "Keel 24", Cores: 24, Watts: 170}, MemoryGB: 128,
		Devices: []stock.Device{{ID: "g0", Model: "Topsail 24", MemoryGB: 24, Backends: []string{"compute2"}, LinkWidth: 16, Watts: 420}},
	}
)

const quickScene = `
title: coda-060
frames: 24
prepare_s: 0.2
load_gb: 1
work_s: 2
finish_s: 0.1
variation: 0.3
noise: 0.02
device_memory_gb: 3
hue: 0.7
`

// scenes makes a folder with the quick scene.
func scenes(t testing.TB) string {
	t.Helper()
	folder := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(folder, "coda.yaml"), []byte(quickScene), 0o600))
	return folder
}

// putHost stores a host as an owner would declare it.
func (h *house) putHost(spec stock.Host) {
	h.t.Helper()
	body, err := convert[api.HostSpec](spec)
	require.NoError(h.t, err)
	must[api.Host](h.t)(h.admin().PutHost(h.t.Context(), spec.Name, body))
}

// putShot stores a shot of the quick scene.
func (h *house) putShot(name, frames string, settings map[string]string) {
	h.t.Helper()
	must[api.Shot](h.t)(h.admin().PutShot(h.t.Context(), name, &api.PutShotParams{}, api.ShotSpec{
		Name: name, Scene: "coda.yaml", Frames: frames, Width: 64, Height: 36, Launcher: "simulated", Settings: settings,
	}))
	h.pack(name, "coda.yaml")
	for _, a := range h.hands {
		a.look()
	}
}

// pack gives a shot a package of files, so that it can be rendered elsewhere.
func (h *house) pack(shot string, files ...string) {
	h.t.Helper()
	chunk := []byte("frames: {}\n")
	sum := fmt.Sprintf("%x", sha256.Sum256(chunk))
	var made api.NewPackage
	for _, f := range files {
		made.Files = append(made.Files, api.PackageFile{Path: f, Size: int64(len(chunk)), Chunks: []string{sum}})
	}
	require.NoError(h.t, client.Check(h.admin().PutChunkWithBody(h.t.Context(), sum, "application/octet-stream", bytes.NewReader(chunk))))
	must[api.Package](h.t)(h.admin().PutPackage(h.t.Context(), shot, made))
}

// joinToken makes a one-time token for a host.
func (h *house) joinToken(host string) string {
	h.t.Helper()
	return must[api.MadeToken](h.t)(h.admin().CreateToken(h.t.Context(), api.NewToken{Name: "join", Role: "agent", Host: host})).Secret
}

// runAgent runs an agent in this process until the test ends or it is stopped.
func (h *house) runAgent(spec stock.Host, scenes string) (stop func()) {
	h.t.Helper()
	all, err := launchers.Shipped()
	require.NoError(h.t, err)
	return h.runAgentWith(spec, scenes, all["simulated"])
}

// runAgentWith is runAgent with the launchers that the host allows.
func (h *house) runAgentWith(spec stock.Host, scenes string, allowed ...launchers.Launcher) (stop func()) {
	h.t.Helper()
	named := map[string]launchers.Launcher{}
	for _, l := range allowed {
		named[l.Name] = l
	}
	a, err := agent.New(agent.Config{
		Service: h.address, Host: spec.Name, JoinToken: h.joinToken(spec.Name), StateDir: h.t.TempDir(), Scenes: scenes,
		Launchers: named, Simulated: []stock.Host{spec}, Log: slog.New(slog.DiscardHandler),
	})
	require.NoError(h.t, err)
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- a.Run(ctx) }()
	stop = func() {
		cancel()
		select {
		case <-done:
		case <-time.After(testdb.Patience):
			h.t.Error("the agent did not end")
		}
		done <- nil
	}
	h.t.Cleanup(stop)
	h.until("the agent of "+spec.Name+" to come up", func() bool {
		return slices.ContainsFunc(must[api.HostList](h.t)(h.admin().ListHosts(h.t.Context(), &api.ListHostsParams{})).Items, func(x api.Host) bool {
			return x.Spec.Name == spec.Name && x.Agent == api.HostAgentUp
		})
	})
	return stop
}

// until waits for something to become true.
func (h *house) until(what string, is func() bool) {
	h.t.Helper()
	testdb.Until(h.t, what, is)
}

// timed gives a shot measured times on crews, through real trials.
func (h *house) timed(shot string, crews ...string) {
	h.t.Helper()
	var ids []api.Trial
	for _, place := range crews {
		host, crew, _ := strings.Cut(place, "/")
		ids = append(ids, must[api.Trial](h.t)(h.admin().CreateTrial(h.t.Context(), &api.CreateTrialParams{}, api.NewTrial{Shot: shot, Host: host, Crew: crew, Frames: 2})))
	}
	for _, trial := range ids {
		h.until("the trial on "+trial.Host, func() bool {
			got := must[api.Trial](h.t)(h.admin().GetTrial(h.t.Context(), trial.Id))
			require.NotEqual(h.t, api.RunStateIncomplete, got.State, "%+v", got.Frames)
			return got.State == api.RunStateComplete
		})
	}
	h.until("agents to have looked for its files", func() bool {
		p := must[api.Preflight](h.t)(h.admin().CheckShot(h.t.Context(), shot, &api.CheckShotParams{}))
		return !slices.ContainsFunc(p.Crews, func(c api.PreflightCrew) bool {
			return slices.ContainsFunc(c.Findings, func(f api.Finding) bool { return f.Level == api.FindingLevelUnknown && f.Check == "inputs" })
		})
	})
}

// started plans shots by a deadline from now and starts the run.
func (h *house) started(within time.Duration, shots ...string) (api.Plan, api.Run) {
	h.t.Helper()
	plan := must[api.Plan](h.t)(h.admin().CreatePlan(h.t.Context(), &api.CreatePlanParams{}, api.NewPlan{Shots: shots, By: h.now().Add(within)}))
	require.NotEqual(h.t, api.PlanStatusImpossible, plan.Status, "%+v", plan.LeftOut)
	return plan, must[api.Run](h.t)(h.admin().StartRun(h.t.Context(), &api.StartRunParams{}, api.StartRunJSONRequestBody{Plan: plan.Id, Spend: plan.OutsideCost}))
}

func (h *house) now() time.Time {
	h.t.Helper()
	return must[api.Session](h.t)(h.admin().GetSession(h.t.Context())).Clock.Now
}

func (h *house) run(r api.Run) api.Run {
	h.t.Helper()
	return must[api.Run](h.t)(h.admin().GetRun(h.t.Context(), r.Id))
}

func (h *house) setState(r api.Run, state api.SetRunStateJSONBodyState) {
	h.t.Helper()
	must[api.Run](h.t)(h.admin().SetRunState(h.t.Context(), r.Id, api.SetRunStateJSONRequestBody{State: state}))
}

func (h *house) awaitOver(r api.Run) api.Run {
	h.t.Helper()
	h.until("the run to be over", func() bool { s := h.run(r).State; return s != api.RunStateRunning && s != api.RunStatePaused })
	return h.run(r)
}

// eachDoneOnce asserts that every frame of a run is done, and was done once.
func eachDoneOnce(t testing.TB, url string, run api.Run, frames int) {
	t.Helper()
	require.Equal(t, frames, query[int](t, url, "SELECT count(*) FROM frames WHERE run_id = $1 AND state = 'done'", run.Id), "frames done")
	require.Equal(t, frames, query[int](t, url, "SELECT count(*) FROM tries WHERE run_id = $1 AND outcome = 'done'", run.Id), "tries that gave a frame")
	require.Zero(t, query[int](t, url, "SELECT count(*) FROM (SELECT 1 FROM tries WHERE run_id = $1 AND outcome = 'done' GROUP BY frame_id HAVING count(*) > 1) x", run.Id))
}
